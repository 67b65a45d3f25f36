#!/usr/bin/env bash
# Build .venv with everything Drover needs, on a fresh Debian 12 or a machine that has most of it already.
set -euo pipefail
cd "$(dirname "$0")/.."

qt_packages="libegl1 libgl1 libglib2.0-0 libdbus-1-3 libfontconfig1 libfreetype6 libxkbcommon0 libxkbcommon-x11-0 \
libx11-xcb1 libxcb1 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render0 \
libxcb-render-util0 libxcb-shape0 libxcb-shm0 libxcb-sync1 libxcb-xfixes0 libxcb-xkb1 libwayland-client0 \
libwayland-cursor0 libwayland-egl1"

python=""
for candidate in python3.13 python3.12 python3.11 python3; do
  if command -v "$candidate" >/dev/null && "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
    python=$candidate
    [ "$candidate" = python3.11 ] && break
  fi
done
if command -v python3 >/dev/null && python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then python=python3; fi

needed=""
if [ -z "$python" ]; then needed="python3 python3-venv"; python=python3
elif ! "$python" -c 'import ensurepip' 2>/dev/null; then needed="python3-venv"; fi
if command -v dpkg-query >/dev/null; then
  for package in $qt_packages; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || needed="$needed $package"
  done
fi
if [ -n "$needed" ] && command -v apt-get >/dev/null; then
  needed=$(echo $needed)
  if [ "$(id -u)" = 0 ]; then
    echo "setup: installing system libraries: $needed"
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -qq && apt-get install -y -qq --no-install-recommends $needed >/dev/null
  else
    echo "setup: system libraries are missing. As root, run this and then make again:"
    echo "  apt-get update && apt-get install -y --no-install-recommends $needed"
    exit 1
  fi
fi

[ -x .venv/bin/python ] || "$python" -m venv .venv
echo "setup: installing Python packages into .venv"
.venv/bin/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
.venv/bin/python -m compileall -q src 2>/dev/null || true
touch .venv/.ready
echo "setup: done"
