#!/usr/bin/env bash
# Holds what is pinned against the weaknesses that the package registry knows of, where it tells them.
set -euo pipefail
cd "$(dirname "$0")"
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
python3 -m venv "$folder/venv"
"$folder/venv/bin/pip" install --quiet pip-audit
for lock in requirements.lock requirements-test.lock; do
  # Exactly what is pinned, nothing that follows from it: the locks name everything.
  "$folder/venv/bin/pip-audit" --requirement "$lock" --no-deps --disable-pip --progress-spinner off
done
