#!/usr/bin/env bash
# Builds a Debian package, without root rights: deb.sh PROGRAM VERSION FOLDER
set -euo pipefail
program=$1 version=$2 out=$3
here=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
tree=$(mktemp -d)
trap 'rm -rf "$tree"' EXIT
chmod 755 "$tree"
# A version begins with a digit; a hash of a commit is made one.
version=${version#v}
case $version in [0-9]*.*) ;; *) version=0.0+$version ;; esac
version=${version//-/+}

install -D -m 755 "$program" "$tree/usr/bin/nidalo"
install -D -m 644 -t "$tree/usr/lib/systemd/system" "$here/nidalo.service" "$here/nidalo-keeper.service"
install -D -m 644 "$here/60-nidalo.rules" "$tree/usr/lib/udev/rules.d/60-nidalo.rules"
install -D -m 644 "$here/nidalo.conf" "$tree/usr/lib/modules-load.d/nidalo.conf"
install -D -m 644 -t "$tree/usr/share/doc/nidalo/examples" "$here/nidalo.toml"
install -D -m 644 -t "$tree/usr/share/doc/nidalo" "$here"/../docs/*.md "$here/../README.md"
install -D -m 644 "$here/../LICENSE" "$tree/usr/share/doc/nidalo/copyright"
"$program" help -manual "$tree/usr/share/man/man1"
gzip -9n "$tree"/usr/share/man/man1/*.1
for shell in bash zsh fish; do
  case $shell in
    bash) to=usr/share/bash-completion/completions/nidalo ;;
    zsh) to=usr/share/zsh/vendor-completions/_nidalo ;;
    fish) to=usr/share/fish/vendor_completions.d/nidalo.fish ;;
  esac
  mkdir -p "$(dirname "$tree/$to")"
  "$program" help -completion $shell >"$tree/$to"
done
mkdir -p "$tree/DEBIAN"
for script in postinst prerm postrm; do install -m 755 "$here/$script" "$tree/DEBIAN/$script"; done
sed -e "s/@VERSION@/$version/; s/@ARCH@/${ARCH:-amd64}/; s/@SIZE@/$(du -sk "$tree/usr" | cut -f1)/" "$here/control.in" >"$tree/DEBIAN/control"
mkdir -p "$out"
dpkg-deb --root-owner-group -Zgzip --build "$tree" "$out/nidalo_${version}_${ARCH:-amd64}.deb" >/dev/null
echo "$out/nidalo_${version}_${ARCH:-amd64}.deb"
