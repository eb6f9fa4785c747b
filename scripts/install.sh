#!/usr/bin/env bash
# Installs Gluvo from this archive, without a network.
#   ./install.sh            for you: ~/.local/lib/gluvo, ~/.local/bin/gluvo, and your desktop's menus
#   ./install.sh --all      for everyone (as root): /opt/gluvo, /usr/local/bin/gluvo, /usr/local/share
#   ./install.sh --remove [--all]
# PYTHON chooses the interpreter; sessions, settings and presets are never touched.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
remove=no
place=$HOME/.local/lib/gluvo bin=$HOME/.local/bin share=${XDG_DATA_HOME:-$HOME/.local/share}
for word in "$@"; do
  case $word in
    --remove) remove=yes ;;
    --all) place=/opt/gluvo bin=/usr/local/bin share=/usr/local/share ;;
    *) sed -n '2,6s/^# //p' "$0" >&2; exit 2 ;;
  esac
done

if [ $remove = yes ]; then
  [ -x "$place/bin/gluvo" ] && "$place/bin/gluvo" desktop --remove --dir "$share" >/dev/null
  rm -rf "$place"
  [ "$(readlink "$bin/gluvo" 2>/dev/null)" = "$place/bin/gluvo" ] && rm "$bin/gluvo"
  echo "Gluvo is removed. Your sessions, settings and presets are where they were."
  exit 0
fi

wanted=$(basename "$here" | sed -n 's/.*-py//p')
python=${PYTHON:-python$wanted}
command -v "$python" >/dev/null || { echo "This archive is for Python $wanted, which is not here." >&2; exit 2; }
has=$("$python" -c 'import sys; print(f"{sys.version_info.major}.{sys.version_info.minor}")')
[ -z "$wanted" ] || [ "$has" = "$wanted" ] || { echo "This archive is for Python $wanted, and $python is $has." >&2; exit 2; }
"$python" -c 'import ensurepip, venv' 2>/dev/null || { echo "Please install python3-venv first." >&2; exit 2; }

mkdir -p "$(dirname "$place")" "$bin"
fresh=$place.new
rm -rf "$fresh"
trap 'rm -rf "$fresh"' EXIT
"$python" -m venv --copies "$fresh"
pip=("$fresh/bin/python" -m pip install -q --disable-pip-version-check --no-index --find-links "$here/wheels" --no-deps)
"${pip[@]}" --require-hashes -r "$here/requirements.lock"
"${pip[@]}" "$here"/wheels/gluvo-*.whl
QT_QPA_PLATFORM=offscreen "$fresh/bin/python" -c 'import PySide6.QtWidgets, PySide6.QtSvg' 2>/dev/null || {
  echo "Qt needs libraries that are not here. On Debian or Ubuntu: apt-get install libegl1 libgl1 libxkbcommon-x11-0" \
    "libdbus-1-3 libfontconfig1 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0" \
    "libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1 libportaudio2" >&2
  exit 2
}
# a former version goes only now that the new one stands
rm -rf "$place"
mv "$fresh" "$place"
trap - EXIT
sed -i "1s|^#!.*|#!$place/bin/python|" "$place/bin/gluvo"
ln -sfn "$place/bin/gluvo" "$bin/gluvo"
echo "Preparing kernels (a minute)"
"$place/bin/gluvo" warm >/dev/null
"$place/bin/gluvo" desktop --install --dir "$share" >/dev/null
echo "Gluvo is installed. Start it from the menus, or with: $bin/gluvo"
case :$PATH: in *:"$bin":*) ;; *) echo "($bin is not in your PATH.)" ;; esac
