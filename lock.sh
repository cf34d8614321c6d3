#!/usr/bin/env bash
# Pins every package that running and testing need, in two files, from the registry's newest that fit.
set -euo pipefail
cd "$(dirname "$0")"
folder=$(mktemp -d)
trap 'rm -rf "$folder" build' EXIT
python3 -m venv "$folder/venv"
"$folder/venv/bin/pip" install --quiet . "setuptools>=77" wheel
"$folder/venv/bin/pip" freeze --all --exclude nice-level --exclude pip | sort > requirements.lock
"$folder/venv/bin/pip" install --quiet -c requirements.lock ".[dev]"
"$folder/venv/bin/pip" freeze --all --exclude nice-level --exclude pip | sort | comm -13 requirements.lock - > requirements-test.lock
