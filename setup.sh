#!/usr/bin/env bash
# Installs what is missing for running (`setup.sh run`) or for testing too (`setup.sh test`). Takes no time when
# nothing is.
set -euo pipefail
cd "$(dirname "$0")"
purpose=${1:?run or test}

packages=(postgresql espeak-ng libpango-1.0-0 libpangoft2-1.0-0 libmp3lame0)
[ "$purpose" = test ] && packages+=(chromium libebur128-1 ffmpeg iproute2 nginx-light openssl)

python=$(command -v python3.11 || command -v python3)
"$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed." >&2; exit 1; }
"$python" -c 'import ensurepip' 2>/dev/null || packages+=(python3-venv)

missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q '^install ok installed$' || missing+=("$package")
done
if [ ${#missing[@]} -gt 0 ]; then
  echo "Installing ${missing[*]}…"
  as_root=()
  [ "$(id -u)" = 0 ] || as_root=(sudo)
  "${as_root[@]}" apt-get update -qq
  # In that run level nothing that is installed is started as a service: we start what we need ourselves.
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

locks=(requirements.lock)
[ "$purpose" = test ] && locks+=(requirements-test.lock)
wanted=$(cat "${locks[@]}" pyproject.toml | sha256sum)
stamp=.venv/ready-for-$purpose
if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
  echo "Installing Python packages…"
  [ -x .venv/bin/python ] || "$python" -m venv .venv
  for lock in "${locks[@]}"; do .venv/bin/pip install --quiet --disable-pip-version-check -r "$lock"; done
  .venv/bin/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
  echo "$wanted" > "$stamp"
fi

# Compile the measuring code now, so that the first user does not wait for it.
wanted=$(find nicelevel/core -name '*.py' -print0 | sort -z | xargs -0 cat | sha256sum)
stamp=.venv/compiled
if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
  echo "Compiling the measuring code…"
  .venv/bin/python -m compileall -q nicelevel
  .venv/bin/nice-level warm
  echo "$wanted" > "$stamp"
fi
