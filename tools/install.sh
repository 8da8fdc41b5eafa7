#!/bin/sh
# Installs for the whole machine, or takes it away again: install.sh install|uninstall, with PREFIX and DESTDIR.
# The bus, polkit and systemd look for their files under /usr only, so those do not follow PREFIX.
set -eu
PREFIX="${PREFIX:-/usr/local}"
DESTDIR="${DESTDIR:-}"
SYSTEM_PYTHON="${SYSTEM_PYTHON:-/usr/bin/python3}"
LIB="$DESTDIR$PREFIX/lib/upright-bolt"

placed() { # source target: every file of ours outside LIB, with its place
    cat <<LIST
upright-bolt.in $PREFIX/bin/upright-bolt
org.upright_bolt.UprightBolt.desktop $PREFIX/share/applications/org.upright_bolt.UprightBolt.desktop
org.upright_bolt.UprightBolt.metainfo.xml $PREFIX/share/metainfo/org.upright_bolt.UprightBolt.metainfo.xml
../src/upright_bolt/desktop/icon.svg $PREFIX/share/icons/hicolor/scalable/apps/org.upright_bolt.UprightBolt.svg
../docs/service.md $PREFIX/share/doc/upright-bolt/service.md
../docs/security.md $PREFIX/share/doc/upright-bolt/security.md
org.upright_bolt.Machine1.service.in /usr/share/dbus-1/system-services/org.upright_bolt.Machine1.service
org.upright_bolt.Machine1.conf /usr/share/dbus-1/system.d/org.upright_bolt.Machine1.conf
org.upright-bolt.policy /usr/share/polkit-1/actions/org.upright-bolt.policy
upright-bolt.service.in /usr/lib/systemd/system/upright-bolt.service
upright-bolt-boot.service.in /usr/lib/systemd/system/upright-bolt-boot.service
../docs/profiles.md $PREFIX/share/doc/upright-bolt/profiles.md
LIST
}

# Begins with the machine; whether it does anything is up to "boot on".
AT_BOOT=/usr/lib/systemd/system/multi-user.target.wants/upright-bolt-boot.service

written() { # name target: every file that the program writes about itself
    cat <<LIST
man $PREFIX/share/man/man1/upright-bolt.1
bash $PREFIX/share/bash-completion/completions/upright-bolt
zsh $PREFIX/share/zsh/vendor-completions/_upright-bolt
fish $PREFIX/share/fish/vendor_completions.d/upright-bolt.fish
LIST
}

MADE="$LIB/installed-folders"

make_folder() { # folder: make it, and remember which folders were not there, without DESTDIR
    missing=""
    folder=$1
    while [ ! -d "$folder" ]; do
        missing="${folder#"$DESTDIR"}
$missing"
        folder=$(dirname "$folder")
    done
    printf '%s' "$missing" >>"$tools/made"
    mkdir -p "$1"
}

tell_the_system() {
    [ -z "$DESTDIR" ] && [ -d /run/systemd/system ] || return 0
    systemctl daemon-reload || true
    systemctl reload dbus.service || true
}

remove() {
    if [ -z "$DESTDIR" ] && [ -d /run/systemd/system ]; then systemctl stop upright-bolt.service || true; fi
    [ ! -f "$MADE" ] || cp "$MADE" "$tools/made"
    { placed; written; } | while read -r _ target; do rm -f "$DESTDIR$target"; done
    rm -f "$DESTDIR$AT_BOOT"
    rm -rf "$LIB"
    sort -r -u "$tools/made" | while read -r folder; do
        rmdir "$DESTDIR$folder" 2>/dev/null || true # what others have put there stays
    done
    tell_the_system
}

install_all() {
    "$SYSTEM_PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
        echo "Python 3.11 or newer is needed; $SYSTEM_PYTHON is older. Name another: make install SYSTEM_PYTHON=…" >&2
        exit 1
    }
    "$SYSTEM_PYTHON" -m venv "$tools/venv"
    [ ! -f "$MADE" ] || cp "$MADE" "$tools/made"
    make_folder "$LIB"
    rm -rf "$LIB"
    mkdir "$LIB"
    "$tools/venv/bin/python" -m pip install --quiet --disable-pip-version-check --require-hashes --no-deps \
        --no-compile --target "$LIB" -r runtime.lock
    cp -R src/upright_bolt "$LIB/"
    find "$LIB/upright_bolt" -name __pycache__ -prune -exec rm -rf {} +
    # A package is compiled where it is installed. From within, so that only folders of packages can match.
    [ -n "${WITHOUT_BYTECODE:-}" ] || (cd "$LIB" && "$tools/venv/bin/python" -m compileall -q -j 0 -x '/tests?/' -s . -p "$PREFIX/lib/upright-bolt" .)
    placed | while read -r source target; do
        mode=644
        [ "$source" = upright-bolt.in ] && mode=755
        make_folder "$(dirname "$DESTDIR$target")"
        sed -e "s|@PREFIX@|$PREFIX|g" -e "s|@PYTHON@|$SYSTEM_PYTHON|g" "system/$source" >"$tools/file"
        install -m "$mode" "$tools/file" "$DESTDIR$target"
    done
    make_folder "$(dirname "$DESTDIR$AT_BOOT")"
    ln -sfn ../upright-bolt-boot.service "$DESTDIR$AT_BOOT"
    written | while read -r name target; do
        make_folder "$(dirname "$DESTDIR$target")"
        "$SYSTEM_PYTHON" -I -B -c 'import sys; sys.path.insert(0, sys.argv.pop(1))
from upright_bolt.cli.manual import main
main()' "$LIB" "$name" >"$tools/file"
        install -m 644 "$tools/file" "$DESTDIR$target"
    done
    cp "$tools/made" "$MADE"
    chmod -R u=rwX,go=rX "$LIB" # whatever modes the checkout and its packages have
    tell_the_system
}

umask 022 # users read and run what root installs, whatever root's own habit is
tools=$(mktemp -d)
trap 'rm -rf "$tools"' EXIT
: >"$tools/made"
case "${1:-}" in
install)
    install_all
    echo "Installed. Start it with: upright-bolt (the root service is started by the bus when it is needed)"
    ;;
uninstall)
    remove
    echo "Removed. Journal and memory of this machine are left in /var/lib/upright-bolt, profiles in /etc/upright-bolt, your runs in your home folder."
    ;;
*)
    echo "usage: install.sh install|uninstall" >&2
    exit 2
    ;;
esac
