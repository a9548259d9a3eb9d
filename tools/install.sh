#!/usr/bin/env bash
# Installs the release build: install.sh PREFIX [ROOT]. PREFIX is where it is to run (/usr/local), ROOT a folder that stands for / while a package is made.
set -euo pipefail
cd "$(dirname "$0")/.."

prefix=${1:?usage: install.sh PREFIX [ROOT]}
to=${2:-}$prefix
built=${CARGO_TARGET_DIR:-target}/release/rockrose
[[ -x $built ]] || { echo "missing: $built; build it with: make build" >&2; exit 1; }

install -d "$to"/{bin,lib/systemd/system,share/{man/man1,rockrose/kits,doc/rockrose}} \
  "$to"/share/{bash-completion/completions,zsh/vendor-completions,fish/vendor_completions.d}
# Without the tables that name its lines in a backtrace, which are most of it.
install -m 755 -s "$built" "$to/bin/rockrose"
"$built" manual "$to/share/man/man1"
gzip -9nf "$to"/share/man/man1/*.1
# What agents are given, where it was built: see `make agent`.
agent=${CARGO_TARGET_DIR:-target}/$(rustc -vV | sed -n 's/^host: //p')/agent/rockrose
[[ ! -x $agent ]] || install -D -m 755 "$agent" "$to/lib/rockrose/agent"
"$built" completions bash >"$to/share/bash-completion/completions/rockrose"
"$built" completions zsh >"$to/share/zsh/vendor-completions/_rockrose"
"$built" completions fish >"$to/share/fish/vendor_completions.d/rockrose.fish"
install -m 644 kits/*.toml "$to/share/rockrose/kits/"
"$built" new-plan --from http,file --to file >"$to/share/doc/rockrose/plan.toml"
install -m 644 CHANGELOG.md LICENSE-MIT LICENSE-APACHE docs/{language,plan,operating}.md "$to/share/doc/rockrose/"
for unit in rockrose rockrose-agent; do
  sed "s|@PREFIX@|$prefix|" "packaging/$unit.service" >"$to/lib/systemd/system/$unit.service"
done
echo "installed to $to"
