#!/usr/bin/env bash
# Installs the Debian packages that are missing. Usage: setup.sh postgresql chromium openssh-server gcc snmp bsdutils curl python3-aiosmtpd …
set -eu
missing=()
for p in "$@"; do
  case $p in
    postgresql) command -v initdb >/dev/null || ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=("$p") ;;
    chromium) command -v chromium >/dev/null || missing+=("$p" fonts-dejavu-core) ;;
    openssh-server) [ -x /usr/sbin/sshd ] || missing+=("$p") ;;
    gcc) command -v gcc >/dev/null && [ -e /usr/include/stdlib.h ] || missing+=("$p" libc6-dev) ;;
    *) dpkg -s "$p" >/dev/null 2>&1 || missing+=("$p") ;;
  esac
done
for tool in go npm; do
  command -v $tool >/dev/null || { echo "$tool is needed and not installed: install Go 1.26 or newer, and Node 20 or newer with npm" >&2; exit 1; }
done
[ ${#missing[@]} -eq 0 ] && exit 0
install="apt-get install -y --no-install-recommends ${missing[*]}"
command -v apt-get >/dev/null || { echo "These packages are missing, and there is no apt-get here: ${missing[*]}" >&2; exit 1; }

as_root=()
if [ "$(id -u)" -ne 0 ]; then
  if ! command -v sudo >/dev/null || { ! sudo -n true 2>/dev/null && [ ! -t 0 ]; }; then
    echo "These Debian packages are missing: ${missing[*]}. Have root type: apt-get update && $install" >&2
    exit 1
  fi
  as_root=(sudo)
fi
as_root+=(env DEBIAN_FRONTEND=noninteractive)

echo "installing ${missing[*]}" >&2
# The packaged cluster is not wanted: the service makes a private one.
"${as_root[@]}" sh -c 'mkdir -p /etc/postgresql-common; cd /etc/postgresql-common
  [ -e createcluster.conf ] || echo "create_main_cluster = false" >createcluster.conf'
# Nor do services of these packages start: tests start their own.
made=$("${as_root[@]}" sh -c '[ -e /usr/sbin/policy-rc.d ] ||
  { printf "#!/bin/sh\nexit 101\n" >/usr/sbin/policy-rc.d; chmod 755 /usr/sbin/policy-rc.d; echo ours; }')
[ -z "$made" ] || trap '"${as_root[@]}" rm -f /usr/sbin/policy-rc.d' EXIT
"${as_root[@]}" apt-get update -qq
# shellcheck disable=SC2086 # the words of a command
"${as_root[@]}" $install -qq >/dev/null
