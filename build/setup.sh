#!/usr/bin/env bash
# Installs the Debian packages that are missing. Usage: setup.sh postgresql chromium openssh-server
set -eu
missing=()
for p in "$@"; do
  case $p in
    postgresql) command -v initdb >/dev/null || ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=("$p") ;;
    chromium) command -v chromium >/dev/null || missing+=("$p" fonts-dejavu-core) ;;
    openssh-server) [ -x /usr/sbin/sshd ] || missing+=("$p") ;;
    *) dpkg -s "$p" >/dev/null 2>&1 || missing+=("$p") ;;
  esac
done
for tool in go npm; do
  command -v $tool >/dev/null || { echo "$tool is needed and not installed: install Go 1.26 or newer, and Node 20 or newer with npm" >&2; exit 1; }
done
[ ${#missing[@]} -eq 0 ] && exit 0
sudo=
if [ "$(id -u)" -ne 0 ]; then
  if command -v sudo >/dev/null && sudo -n true 2>/dev/null; then sudo="sudo -n"
  else echo "These Debian packages are missing: ${missing[*]}. Install them with: apt-get install ${missing[*]}" >&2; exit 1; fi
fi
command -v apt-get >/dev/null || { echo "These packages are missing, and there is no apt-get here: ${missing[*]}" >&2; exit 1; }
echo "installing ${missing[*]}" >&2
# The packaged cluster is not wanted: the service makes a private one.
$sudo mkdir -p /etc/postgresql-common
[ -e /etc/postgresql-common/createcluster.conf ] || echo 'create_main_cluster = false' | $sudo tee /etc/postgresql-common/createcluster.conf >/dev/null
export DEBIAN_FRONTEND=noninteractive
$sudo apt-get update -qq
$sudo -E apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
