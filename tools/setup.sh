#!/bin/sh
# Installs what is missing: system libraries where this user may, then Python packages from the lock into .venv.
set -eu
PYTHON="${PYTHON:-python3}"

# Qt's own needs on a bare Debian 12 (window and offscreen), the interpreter's venv module, the typeface, and what the tests
# of the root service need: a bus, polkit, and a stand-in for polkit.
PACKAGES="python3 python3-venv libgl1 libegl1 libglib2.0-0 libdbus-1-3 libfontconfig1 libfreetype6 libxkbcommon0
libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0
libxcb-render0 libxcb-shape0 libxcb-shm0 libxcb-sync1 libxcb-xfixes0 libxcb-xinerama0 libxcb-xkb1 libx11-xcb1 fonts-inter
dbus-daemon polkitd python3-dbusmock"

missing=""
if command -v dpkg-query >/dev/null 2>&1; then
    for package in $PACKAGES; do
        state=$(dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null || true)
        [ "$state" = installed ] || missing="$missing $package"
    done
fi
if [ -n "$missing" ]; then
    if [ "$(id -u)" = 0 ]; then
        may=""
    elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
        may="sudo"
    else
        may="no"
    fi
    if [ "$may" = no ] || ! command -v apt-get >/dev/null 2>&1; then
        echo "These system packages are missing and cannot be installed by this user:$missing" >&2
    else
        echo "Installing system packages:$missing"
        $may apt-get update -qq
        $may env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
    fi
fi

"$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
    echo "Python 3.11 or newer is needed; $PYTHON is older. Name another: make PYTHON=/path/to/python3" >&2
    exit 1
}
[ -x .venv/bin/python ] || "$PYTHON" -m venv .venv
echo "Installing Python packages into .venv"
.venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
.venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
touch .venv/ready
