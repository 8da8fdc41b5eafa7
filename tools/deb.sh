#!/bin/sh
# Builds the Debian package: what install.sh installs, below /usr, with Python's packages inside. deb.sh [FOLDER]
set -eu
SYSTEM_PYTHON="${SYSTEM_PYTHON:-/usr/bin/python3}"
out="${1:-dist}"
command -v dpkg-deb >/dev/null 2>&1 || {
    echo "dpkg-deb is needed to build the package, which is part of Debian's package dpkg." >&2
    exit 1
}
umask 022
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
stage="$work/stage"
mkdir "$stage"
chmod 755 "$stage"
PREFIX=/usr DESTDIR="$stage" SYSTEM_PYTHON="$SYSTEM_PYTHON" WITHOUT_BYTECODE=1 sh tools/install.sh install >/dev/null

version=$(sed -n 's/^version = "\(.*\)"/\1/p' pyproject.toml)
rm -f "$stage/usr/lib/upright-bolt/installed-folders" # dpkg knows them
rm -rf "$stage/usr/lib/upright-bolt/bin"              # commands of packages, which nobody calls
find "$stage" -name __pycache__ -prune -exec rm -rf {} + # writing the manual makes some
find "$stage/usr/lib/upright-bolt" -name '*.so*' -type f -exec chmod 644 {} +

docs="$stage/usr/share/doc/upright-bolt"
install -m 644 system/debian/copyright "$docs/copyright"
sed -e "s/@VERSION@/$version/" -e "s/@DATE@/$(date -R -d "@${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct 2>/dev/null || date +%s)}")/" \
    system/debian/changelog.in | gzip -9n >"$docs/changelog.gz"
gzip -9n "$stage/usr/share/man/man1/upright-bolt.1"
mkdir -p "$stage/usr/share/lintian/overrides"
install -m 644 system/debian/lintian-overrides "$stage/usr/share/lintian/overrides/upright-bolt"

mkdir "$stage/DEBIAN"
python=$("$SYSTEM_PYTHON" -c 'import sys; print("%d.%d" % sys.version_info[:2])')
after=$("$SYSTEM_PYTHON" -c 'import sys; print("%d.%d" % (sys.version_info[0], sys.version_info[1] + 1))')
sed -e "s/@VERSION@/$version/" -e "s/@ARCHITECTURE@/$(dpkg --print-architecture)/" -e "s/@PYTHON@/$python/" \
    -e "s/@PYTHON_AFTER@/$after/" -e "s/@SIZE@/$(du -sk --exclude=DEBIAN "$stage" | cut -f1)/" \
    system/debian/control.in >"$stage/DEBIAN/control"
for script in postinst prerm postrm; do
    install -m 755 "system/debian/$script" "$stage/DEBIAN/$script"
done
(cd "$stage" && find usr -type f -printf '%P\0' | sed -z 's|^|usr/|' | LC_ALL=C sort -z | xargs -0 md5sum) >"$stage/DEBIAN/md5sums"
chmod 644 "$stage/DEBIAN/md5sums" "$stage/DEBIAN/control"

mkdir -p "$out"
file="$out/upright-bolt_${version}_$(dpkg --print-architecture).deb"
dpkg-deb --root-owner-group -Zxz -z2 --build "$stage" "$file" >/dev/null
case "$file" in /*) ;; *) file="./$file" ;; esac
echo "Built $file. Install it with: sudo apt install $file"
