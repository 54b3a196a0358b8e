#!/usr/bin/env bash
# Installs the pinned reporting system into an environment of its own, and fills the metadata that every instance begins
# with. It wants older libraries than ours.
set -euo pipefail
cd "$(dirname "$0")"
exec 9> .installing
# Whoever comes second waits for the first.
flock 9
[ -f .runtime/.installed ] && [ .runtime/.installed -nt requirements.txt ] && exit 0
"${PYTHON:-python3}" -m venv .runtime
.runtime/bin/python -m pip install --quiet --disable-pip-version-check --no-warn-script-location -r requirements.txt
export AMPHORA_TEST_METADATA="$PWD/.runtime/first.db" SUPERSET_CONFIG_PATH="$PWD/superset_config.py" FLASK_APP=superset
rm -f "$AMPHORA_TEST_METADATA"
{
  .runtime/bin/superset db upgrade
  .runtime/bin/superset fab create-admin --username keeper --firstname Kit --lastname Keeper \
    --email keeper@halcyon.example --password made-up-password
  .runtime/bin/superset init
} > .runtime/init.log 2>&1 || { tail -20 .runtime/init.log >&2; exit 1; }
touch .runtime/.installed
