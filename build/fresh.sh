#!/usr/bin/env bash
# Tries the README's commands on bare machines: a minimal Debian in a folder, with only what the README asks for.
# Root is needed (debootstrap, chroot). What is tried is the committed tree, cloned. With FRESH_CACHE=1 the machines have
# what Go compiled here within the last hours: what they must install and say is tried all the same, in less time.
#
#   fresh.sh              make example by an ordinary user, with and without sudo; make example and make test by root
#   fresh.sh example      the same without make test
#   fresh.sh ordinary     make example by an ordinary user without sudo, and no more
set -eu -o pipefail
cd "$(dirname "$0")/.."
case ${1:-} in ''|example|ordinary) ;; *) echo "fresh.sh knows example and ordinary, not: $1" >&2; exit 2 ;; esac
[ "$(id -u)" -eq 0 ] || { echo "make fresh needs root: it makes a Debian in a folder and enters it" >&2; exit 1; }
command -v debootstrap >/dev/null || build/setup.sh debootstrap
src=$PWD
work=$(mktemp -d "${FRESH_DIR:-/var/tmp}/urgentis-fresh.XXXXXX")
trap 'rm -rf --one-file-system "$work"' EXIT

# What the machine around us needs to reach its package registries, the bare one needs too.
settings=()
while IFS= read -r name; do settings+=("$name=${!name}"); done < <(
  compgen -e | grep -iE '^(https?_proxy|no_proxy|go(proxy|sumdb|nosumdb|noproxy|insecure|flags)|ssl_cert_file|node_extra_ca_certs|npm_config_.*)$' || true)
mirror=$(apt-get indextargets --format '$(SITE)' 'Created-By: Packages' 2>/dev/null | grep -m1 '/debian/\?$' || true)

say() { printf '\n== %s\n' "$*"; }

# base makes the minimal Debian: what debootstrap's smallest has, and what the README names.
base() {
  debootstrap --variant=minbase --include=ca-certificates,git,make,libstdc++6,sudo \
    "$(. /etc/os-release; echo "$VERSION_CODENAME")" "$work/base" ${mirror:+"$mirror"} >"$work/debootstrap.log" ||
    { tail -n 20 "$work/debootstrap.log" >&2; exit 1; }
  cp /etc/ssl/certs/ca-certificates.crt "$work/base/etc/ssl/certs/ca-certificates.crt"
  cp /etc/resolv.conf /etc/hosts "$work/base/etc/"
  find /etc/apt/apt.conf.d -iname '*prox*' -exec cp {} "$work/base/etc/apt/apt.conf.d/" \;
  cp -a "$(go env GOROOT)" "$work/base/usr/local/go"
  node=$(readlink -f "$(command -v node)")
  npm=$(readlink -f "$(command -v npm)"); npm=${npm%/bin/npm-cli.js}
  cp "$node" "$work/base/usr/local/bin/node"
  mkdir -p "$work/base/usr/local/lib/node_modules"
  cp -a "$npm" "$work/base/usr/local/lib/node_modules/npm"
  ln -s ../lib/node_modules/npm/bin/npm-cli.js "$work/base/usr/local/bin/npm"
  npmrc=$(npm config get userconfig)
  if [ -e "$npmrc" ]; then cp "$npmrc" "$work/base/etc/skel/.npmrc"; cp "$npmrc" "$work/base/root/.npmrc"; fi
  if [ -n "${FRESH_CACHE:-}" ]; then
    mkdir "$work/base/gocache"
    (cd "$(go env GOCACHE)" && find . -type f -mmin -180 -print0 | tar --null -T - -cf -) | tar -xf - -C "$work/base/gocache"
    chmod -R a+rwX "$work/base/gocache"
    settings+=(GOCACHE=/gocache)
  fi
  git -C "$src" bundle create -q "$work/base/src.bundle" HEAD
  # An ordinary user who may not use sudo, and one who may.
  chroot "$work/base" sh -c '
    useradd -m -s /bin/bash ordinary
    useradd -m -s /bin/bash trusted
    echo "trusted ALL=(ALL) NOPASSWD: ALL" >/etc/sudoers.d/trusted'
}

# within MACHINE USER COMMAND runs a command in a bare machine with a process table of its own: what it leaves
# running ends with it.
within() {
  unshare --mount --pid --fork --kill-child sh -eu -c '
    root=$1; user=$2; line=$3; shift 3
    mount --make-rprivate /
    mount -t proc proc "$root/proc"
    mount -t sysfs sysfs "$root/sys" 2>/dev/null || mount --rbind /sys "$root/sys"
    mount --rbind /dev "$root/dev"
    exec chroot "$root" su - "$user" -c "export PATH=/usr/local/go/bin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin; export $*; $line"
  ' sh "$work/$1" "$2" "$3" FRESH=1 "${settings[@]}"
}

machine() { cp -a "$work/base" "$work/$1"; }
discard() { rm -rf --one-file-system "${work:?}/$1"; }

clone='git clone -q /src.bundle ~/urgentis && cd ~/urgentis'
summary=()
passed() { summary+=("$(printf '%-62s %4d s' "$1" $((SECONDS - began)))"); }
finish() { say "bare machines passed"; printf '%s\n' "${summary[@]}"; exit 0; }

say "a minimal Debian"
base
cat "$work/base/etc/debian_version"

say "an ordinary user without sudo: told what root must type, and then make example"
began=$SECONDS
machine plain
if within plain ordinary "$clone && make example" >"$work/out" 2>&1; then
  echo "make example ended 0 although packages are missing and nobody could install them" >&2; exit 1
fi
asked=$(grep -o 'apt-get update && apt-get install .*' "$work/out") || { cat "$work/out" >&2; echo "it does not say what to type" >&2; exit 1; }
echo "told: $asked"
within plain root "$asked" >"$work/out" 2>&1 || { tail -n 20 "$work/out" >&2; exit 1; }
within plain ordinary 'cd ~/urgentis && make example'
discard plain
passed "make example, an ordinary user, after what root was asked for"
[ "${1:-}" != ordinary ] || finish

say "an ordinary user with sudo: make example"
began=$SECONDS
machine sudo
within sudo trusted "$clone && make example"
discard sudo
passed "make example, an ordinary user with sudo"

say "root: make example"
began=$SECONDS
machine root
within root root "$clone && make example"
passed "make example, root"

if [ "${1:-}" != example ]; then
  say "root: make test"
  began=$SECONDS
  within root root 'cd ~/urgentis && make test'
  passed "make test, root"
fi

finish
