#!/usr/bin/env bash
# Makes sure that the machine has what setting up needs, and installs Debian packages where it may: check_machine.sh run|test
set -eu

missing=()
debian() { # command or file, package
  command -v "$1" > /dev/null 2>&1 || [ -e "$1" ] || missing+=("$2")
}

python=""
for each in python3.11 python3.12 python3.13 python3; do
  if command -v "$each" > /dev/null 2>&1 && "$each" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then python=$each; break; fi
done
if [ -z "$python" ]; then
  echo "Dravo needs Python 3.11 or newer, and found none." >&2
  exit 1
fi
"$python" -c 'import ensurepip, venv' 2> /dev/null || missing+=("python3-venv")
if ! command -v node > /dev/null 2>&1 || [ "$(node -p 'process.versions.node.split(".")[0]')" -lt 20 ]; then
  echo "Dravo needs Node.js 20 or newer to build its console, and found $(node --version 2> /dev/null || echo none)." >&2
  exit 1
fi
# What python-ldap is built with, and the directory that the demo and the tests read.
debian cc gcc
debian "$("$python" -c 'import sysconfig; print(sysconfig.get_path("include"))')/Python.h" python3-dev
debian /usr/include/ldap.h libldap2-dev
debian /usr/include/sasl/sasl.h libsasl2-dev
debian /usr/sbin/slapd slapd
debian ldapmodify ldap-utils
if [ "${1:-run}" = test ]; then
  debian chromium-headless-shell chromium-headless-shell
  debian xmlsec1 xmlsec1
  debian /usr/share/fonts/truetype/noto/NotoSans-Regular.ttf fonts-noto-core
  debian /usr/share/fonts/opentype/noto/NotoSansCJK-Regular.ttc fonts-noto-cjk
fi
if [ "${#missing[@]}" -gt 0 ]; then
  echo "Installing Debian packages: ${missing[*]} ..."
  run=()
  [ "$(id -u)" -eq 0 ] || run=(sudo -n)
  if ! command -v apt-get > /dev/null 2>&1 || ! { "${run[@]}" apt-get update -qq && DEBIAN_FRONTEND=noninteractive "${run[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}"; } > /dev/null; then
    echo "These packages are missing and could not be installed from here: ${missing[*]}" >&2
    echo "Install them as root, for example: apt-get install ${missing[*]}" >&2
    exit 1
  fi
fi
