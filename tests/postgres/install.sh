#!/usr/bin/env bash
# Installs the database server for the tests of a team's ledger, where the machine lacks it.
set -euo pipefail
if ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || command -v initdb >/dev/null; then
  exit 0
fi
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
  echo "The tests of a team's ledger need a PostgreSQL server (initdb, postgres): install it and run make test again." >&2
  exit 1
fi
apt-get update -qq
# Without the cluster that the package would make and start: the tests make and end their own.
mkdir -p /etc/postgresql-common
test -e /etc/postgresql-common/createcluster.conf || echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq postgresql >/dev/null
