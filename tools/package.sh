#!/usr/bin/env bash
# Makes a tarball and a Debian package of the release build, in target/package. With VERSION set, as that version.
set -euo pipefail
cd "$(dirname "$0")/.."

# Most bytes of the stripped binary, and of the agent alone.
MOST=$((55 * 1000 * 1000))
MOST_AGENT=$((15 * 1000 * 1000))

target=$(realpath "${CARGO_TARGET_DIR:-target}")
version=${VERSION:-$(sed -n 's/^version = "\(.*\)"/\1/p' Cargo.toml | head -1)}
machine=$(uname -m)
arch=$(dpkg --print-architecture)
out=$target/package
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$out"

# The tarball: as it would stand below a prefix.
name=rockrose-$version-$machine
./tools/install.sh /usr/local "$work/tar" >/dev/null
mv "$work/tar/usr/local" "$work/$name"
install -m 644 packaging/README "$work/$name/README"
tar --sort=name --owner=0 --group=0 --numeric-owner -C "$work" -czf "$out/$name.tar.gz" "$name"

size=$(stat -c %s "$work/$name/bin/rockrose")
if ((size > MOST)); then
  echo "the stripped binary has $size bytes, more than $MOST" >&2
  exit 1
fi
of_agent=$(stat -c %s "$work/$name/lib/rockrose/agent")
if ((of_agent > MOST_AGENT)); then
  echo "the agent has $of_agent bytes, more than $MOST_AGENT" >&2
  exit 1
fi

# The Debian package.
root=$work/deb
./tools/install.sh /usr "$root" >/dev/null
install -D -m 644 packaging/rockrose.default "$root/etc/default/rockrose"
install -d -m 755 "$root/DEBIAN" "$root/etc/rockrose"
doc=$root/usr/share/doc/rockrose
mkdir -p "$doc/examples"
mv "$doc/plan.toml" "$doc/examples/plan.toml"
gzip -9n "$doc"/*.md
{
  echo "Rockrose, under either of the MIT licence or the Apache licence 2.0 (/usr/share/common-licenses/Apache-2.0), as you like."
  echo
  cat LICENSE-MIT
} >"$doc/copyright"
rm "$doc/LICENSE-MIT" "$doc/LICENSE-APACHE"
install -m 755 packaging/{postinst,prerm,postrm} "$root/DEBIAN/"
echo /etc/default/rockrose >"$root/DEBIAN/conffiles"

# What the binary needs of the system's libraries, found by Debian's own tool, which wants to see a source package.
mkdir -p "$work/source/debian"
printf 'Source: rockrose\n\nPackage: rockrose\nArchitecture: any\n' >"$work/source/debian/control"
depends=$(cd "$work/source" && dpkg-shlibdeps -O "$root/usr/bin/rockrose" 2>/dev/null | sed -n 's/^shlibs:Depends=//p')
cat >"$root/DEBIAN/control" <<CONTROL
Package: rockrose
Version: $version
Architecture: $arch
Section: admin
Priority: optional
Maintainer: The Rockrose team <team@rockrose.example>
Depends: $depends, passwd, init-system-helpers (>= 1.52)
Recommends: ca-certificates
Installed-Size: $(du -sk --exclude=DEBIAN "$root" | cut -f1)
Description: routes, redacts, samples and delivers log streams
 Rockrose stands between the agents that ship logs and the places that want
 them. Routes say which events go where and what is done to them on the way.
 Nothing acknowledged is lost, and an account of every event adds up.
CONTROL
(cd "$root" && find usr etc -type f -print0 | sort -z | xargs -0 md5sum >DEBIAN/md5sums)
package=$out/rockrose_${version}_$arch.deb
dpkg-deb --root-owner-group --build "$root" "$package" >/dev/null

printf '%s\n' "$out/$name.tar.gz" "$package"
echo "the binary has $((size / 1000000)) MB, the agent alone $((of_agent / 1000000)) MB"
