#!/usr/bin/env bash
# Installs what is missing from Debian's packages when run as root; otherwise says exactly what to install.
# `setup.sh build`: what the build needs. `setup.sh test`, `setup.sh package`: what the tests, or making packages, need as well.
set -euo pipefail

packages=()
command -v cc >/dev/null || packages+=(gcc libc6-dev)
command -v git >/dev/null || packages+=(git)
if [[ ${1:-test} == test ]]; then
  command -v curl >/dev/null || packages+=(curl)
  command -v logger >/dev/null || packages+=(bsdutils)
  # journalctl reads the journals that systemd-journal-remote writes for the tests.
  command -v journalctl >/dev/null || packages+=(systemd)
  [[ -x /lib/systemd/systemd-journal-remote ]] || packages+=(systemd-journal-remote)
  command -v python3 >/dev/null || packages+=(python3)
  command -v chromium >/dev/null || packages+=(chromium)
  ls /usr/lib/*/faketime/libfaketimeMT.so.1 >/dev/null 2>&1 || packages+=(libfaketime)
  command -v chromedriver >/dev/null || packages+=(chromium-driver)
fi
if [[ ${1:-test} == package ]]; then
  command -v dpkg-shlibdeps >/dev/null || packages+=(dpkg-dev)
  command -v strip >/dev/null || packages+=(binutils)
fi
# npm comes with every build of Node.js but Debian's, where it is a package of its own.
command -v node >/dev/null || packages+=(nodejs npm)

if ((${#packages[@]})); then
  if [[ $(id -u) == 0 ]] && command -v apt-get >/dev/null; then
    echo "installing ${packages[*]}"
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${packages[@]}" >/dev/null
  else
    echo "missing; as root, run: apt-get install ${packages[*]}" >&2
    exit 1
  fi
fi

if ! command -v cargo >/dev/null; then
  echo "missing: Rust 1.95 or later (cargo); install it with rustup" >&2
  exit 1
fi
major=$(node --version | sed 's/^v\([0-9]*\).*/\1/')
if ((major < 20)); then
  echo "Node.js $(node --version) is too old; 20.19 or later is needed" >&2
  exit 1
fi
