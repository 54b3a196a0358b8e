#!/usr/bin/env bash
# Installs the pinned flow runtime for the contract suite, and Node.js before it where the machine lacks it.
set -euo pipefail
cd "$(dirname "$0")"
if ! command -v node >/dev/null || ! command -v npm >/dev/null; then
  if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
    echo "The contract suite needs Node.js 18.5 or newer and npm: install them and run make test again." >&2
    exit 1
  fi
  apt-get update -qq
  apt-get install -y -qq nodejs npm >/dev/null
fi
npm ci --ignore-scripts --omit=optional --no-audit --no-fund
