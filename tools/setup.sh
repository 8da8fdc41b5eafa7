#!/bin/sh
# Installs what is missing: system packages where this user may, then Python packages from the lock into .venv.
# What it cannot do it says in one sentence, with the command to paste; .venv/ready is there only once everything is.
# "setup.sh tests" sees to the system packages alone, and wants those of the tests as well; "setup.sh kernel-tests"
# wants those of the checks on a real kernel besides.
set -eu
PYTHON="${PYTHON:-python3}"

# Python with its venv module, and Qt's own needs on a bare Debian 12, for windows and offscreen.
NEEDED="python3 python3-venv libgl1 libegl1 libglib2.0-0 libdbus-1-3 libfontconfig1 libfreetype6 libxkbcommon0
libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0
libxcb-render0 libxcb-shape0 libxcb-shm0 libxcb-sync1 libxcb-xfixes0 libxcb-xinerama0 libxcb-xkb1 libx11-xcb1"
# The typeface, and what the tests need: a bus, polkit with a stand-in, a screen in memory, and the check
# of the package.
USEFUL="fonts-inter dbus-daemon polkitd python3-dbusmock lintian xvfb zsh fish"
# An emulator, what its machine's kernel, firmware tables and disk are made with, and what that machine's system is.
FOR_KERNEL_TESTS="qemu-system-x86 acpica-tools busybox-static cpio kmod gcc make libc6-dev libelf-dev e2fsprogs systemd
dbus dbus-daemon polkitd procps python3-venv"

missing_of() { # packages: print those that are not installed
    command -v dpkg-query >/dev/null 2>&1 || return 0
    for package in "$@"; do
        state=$(dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null || true)
        [ "$state" = installed ] || printf '%s ' "$package"
    done
}

root_by() { # print how root's rights are got: "now" as root, "sudo" without a password, nothing if not at all
    if [ "$(id -u)" = 0 ]; then
        echo now
    elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
        echo sudo
    fi
}

command_for() { # packages: print the command that a person can paste
    if command -v sudo >/dev/null 2>&1; then
        echo "sudo apt install $*"
    else
        echo "su -c 'apt install $*'"
    fi
}

install_packages() { # packages
    log=$(mktemp)
    may=""
    [ "$(root_by)" = now ] || may="sudo"
    echo "Installing system packages: $*"
    if ! { $may apt-get update -qq && $may env DEBIAN_FRONTEND=noninteractive DEBCONF_NOWARNINGS=yes \
        apt-get install -y -qq --no-install-recommends "$@"; } >"$log" 2>&1; then
        grep -v debconf "$log" >&2 || true
        rm -f "$log"
        echo "The system packages could not be installed (see above). Once that is mended: make setup" >&2
        exit 1
    fi
    rm -f "$log"
}

needed=$(missing_of $NEEDED)
useful=$(missing_of $USEFUL)
case "${1:-}" in
tests) needed="$needed$useful" useful="" ;;
kernel-tests) needed=$(missing_of $FOR_KERNEL_TESTS) useful="" ;;
esac
if [ -n "$needed$useful" ] && [ -n "$(root_by)" ] && command -v apt-get >/dev/null 2>&1; then
    install_packages $needed $useful
    needed=""
    useful=""
fi
if [ -n "$needed" ]; then
    echo "These system packages are missing. Paste this, then start again: $(command_for $needed$useful)" >&2
    exit 1
fi
if [ -n "${1:-}" ]; then
    touch ".venv/ready-for-$1"
    exit 0
fi

command -v "$PYTHON" >/dev/null 2>&1 || {
    echo "There is no $PYTHON here. Install Python 3.11 or newer, or name another: make PYTHON=/path/to/python3" >&2
    exit 1
}
"$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
    echo "Python 3.11 or newer is needed; $PYTHON is older. Name another: make PYTHON=/path/to/python3" >&2
    exit 1
}
"$PYTHON" -c 'import ensurepip, venv' 2>/dev/null || {
    echo "The venv module of $PYTHON is missing. Paste this, then start again: $(command_for python3-venv)" >&2
    exit 1
}

if [ ! -e .venv/ready ] || ! .venv/bin/python -m pip --version >/dev/null 2>&1; then
    rm -rf .venv # half made, or made by a Python that is gone
fi
rm -f .venv/ready
[ -d .venv ] || "$PYTHON" -m venv .venv
echo "Installing Python packages into .venv"
{
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock &&
        .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
} || {
    echo "The Python packages could not be installed (see above). Once that is mended: make setup" >&2
    exit 1
}
QT_QPA_PLATFORM=offscreen .venv/bin/python -c 'import PyQt6.QtWidgets' 2>.venv/fault || {
    echo "Qt cannot be loaded: $(tail -n 1 .venv/fault | sed 's/^ImportError: //'). Install what it names, then: make setup" >&2
    exit 1
}
rm -f .venv/fault
touch .venv/ready
