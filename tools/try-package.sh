#!/usr/bin/env bash
# Tries the Debian package in a fresh Debian under systemd: installs it, starts, reloads, upgrades, removes and purges it, and looks each time at what must be so.
# As root, with debootstrap and systemd-container: try-package.sh [FOLDER], where the folder keeps the fresh Debian for the next time.
set -euo pipefail
cd "$(dirname "$0")/.."

for tool in debootstrap systemd-nspawn; do
  command -v $tool >/dev/null || { echo "missing: as root, run: apt-get install debootstrap systemd-container" >&2; exit 1; }
done
work=$(mktemp -d)
base=${1:-$work/base}
booted=
finish() {
  [[ -n $booted ]] && kill -KILL "$booted" 2>/dev/null && wait "$booted" 2>/dev/null || true
  rm -rf "$work"
}
trap finish EXIT

say() { printf '\n== %s\n' "$*"; }
fail() { echo "FAILED: $*" >&2; exit 1; }
# Runs something in the booted system.
inside() { nsenter --target "$leader" --mount --uts --ipc --net --pid -- "$@"; }
# Waits, at most half a minute, until a command succeeds.
until_ok() {
  for _ in $(seq 150); do
    "$@" >/dev/null 2>&1 && return
    sleep 0.2
  done
  fail "timed out: $*"
}
rockrose() { inside rockrose --config /var/lib/rockrose/client.toml "$@"; }
active() { [[ $(inside systemctl is-active rockrose) == "$1" ]] || fail "the service is $(inside systemctl is-active rockrose), not $1: $(inside journalctl -u rockrose -n 20)"; }

say "two versions of the package"
target=${CARGO_TARGET_DIR:-target}
VERSION=0.0.9 ./tools/package.sh | tail -1
./tools/package.sh | tail -1
version=$(sed -n 's/^version = "\(.*\)"/\1/p' Cargo.toml | head -1)
arch=$(dpkg --print-architecture)

say "a fresh Debian"
if [[ ! -x $base/usr/bin/dpkg ]]; then
  debootstrap --variant=minbase --include=systemd,dbus,man-db bookworm "$base" >"$work/debootstrap.log" 2>&1 || { tail "$work/debootstrap.log"; exit 1; }
fi
root=$work/root
cp -a "$base" "$root"
cp "$target"/package/rockrose_{0.0.9,"$version"}_"$arch".deb "$root/root/"
systemd-nspawn --quiet --directory="$root" --register=no --keep-unit --private-network --boot </dev/null >"$work/boot.log" 2>&1 &
booted=$!
until_ok pgrep -P "$booted"
leader=$(pgrep -P "$booted" | head -1)
until_ok inside systemctl is-system-running --wait || true

say "install"
inside dpkg -i /root/rockrose_0.0.9_"$arch".deb
until_ok inside test -e /var/lib/rockrose/client.toml
active active
inside systemctl is-enabled rockrose | grep -qx enabled || fail "it is not enabled"
inside systemd-analyze verify rockrose.service
inside systemd-analyze security --no-pager rockrose.service | tail -1
[[ $(inside stat -c %U:%a /var/lib/rockrose) == rockrose:700 ]] || fail "the data folder belongs to $(inside stat -c %U:%a /var/lib/rockrose)"
[[ $(inside ps -o user= -C rockrose 2>/dev/null || inside stat -c %U /proc/"$(inside systemctl show -p MainPID --value rockrose)") == rockrose ]] || fail "it does not run as rockrose"
inside man -w rockrose-resend >/dev/null || fail "there is no manual"
inside test -s /usr/share/bash-completion/completions/rockrose || fail "there are no completions"
inside test -s /usr/share/rockrose/kits/access-log.toml || fail "there are no kits"
inside rockrose check /usr/share/doc/rockrose/examples/plan.toml

say "a plan, events, a setting"
inside sh -c "cat >/root/plan.toml <<'PLAN'
[source.in]
kind = \"http\"
listen = \"127.0.0.1:8610\"
[source.log]
kind = \"syslog\"
listen = \"127.0.0.1:514\"
[destination.out]
kind = \"file\"
path = \"/var/lib/rockrose/files/out.jsonl\"
[[route]]
name = \"all\"
to = [\"out\"]
PLAN
echo ROCKROSE_LOG=debug >>/etc/default/rockrose"
rockrose apply /root/plan.toml --why "the first" --yes
inside sh -c 'for n in $(seq 200); do echo "{\"n\":$n}"; done >/root/events.jsonl'
rockrose send /root/events.jsonl --source in
delivered() { [[ $(inside sh -c 'cat /var/lib/rockrose/files/out.jsonl 2>/dev/null | wc -l') == "$1" ]]; }
until_ok delivered 200

say "reload, and a crash"
inside systemctl reload rockrose
active active
inside journalctl -u rockrose | grep -q "read again" || fail "nothing was read again"
inside systemctl kill --kill-who=main -s KILL rockrose
until_ok inside systemctl is-active rockrose
until_ok rockrose status

say "upgrade"
inside dpkg -i --force-confold /root/rockrose_"$version"_"$arch".deb
until_ok rockrose status
active active
inside dpkg-query -W -f '${Version}\n' rockrose | grep -qx "$version" || fail "it was not upgraded"
rockrose revisions | grep -q "the first" || fail "the plan is gone"
rockrose ledger | grep -q balanced || fail "the ledger does not balance"
inside grep -q ROCKROSE_LOG=debug /etc/default/rockrose || fail "the setting is gone"
rockrose send /root/events.jsonl --source in
until_ok delivered 400

say "remove"
inside dpkg -r rockrose
[[ $(inside systemctl is-active rockrose) != active ]] || fail "it still runs"
inside test ! -e /usr/bin/rockrose || fail "the binary is still there"
inside test -e /var/lib/rockrose/spool.db || fail "the data is gone"

say "install again: all is as it was"
inside dpkg -i /root/rockrose_"$version"_"$arch".deb
until_ok rockrose status
rockrose revisions | grep -q "the first" || fail "the plan is gone"

say "purge"
inside dpkg -P rockrose
inside test ! -e /var/lib/rockrose || fail "the data is still there"
inside test ! -e /etc/default/rockrose || fail "the settings are still there"
! inside getent passwd rockrose || fail "the user is still there"

say "the tarball, from its own folder"
tarball=$(ls "$target"/package/rockrose-"$version"-*.tar.gz)
mkdir "$work/tar"
tar -C "$work/tar" -xzf "$tarball"
"$work"/tar/*/bin/rockrose --version
"$work"/tar/*/bin/rockrose check "$work"/tar/*/share/doc/rockrose/plan.toml

say "all of it is as it should be"
