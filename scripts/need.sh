#!/bin/sh
# Sees to it that what a target needs is installed: by root, installed here; by
# others, named in one line to run.
set -eu
what=$1
missing=
have() { command -v "$1" >/dev/null 2>&1; }
need() { missing="$missing $1"; }

have git || need git
case $what in
demo | test | bench)
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || have initdb || need postgresql
  ;;
esac
case $what in
bench)
  have nginx || need nginx-light
  have pgbench || ls /usr/lib/postgresql/*/bin/pgbench >/dev/null 2>&1 || need postgresql
  have curl || need curl
  have zstd || need zstd
  ;;
test)
  have chromium || need chromium
  have strace || need strace
  have xmllint || need libxml2-utils
  ;;
esac
have go || { echo "Go 1.26 or newer is needed: https://go.dev/dl" >&2; exit 2; }
have npm || { echo "Node 20 or newer with npm is needed for the console" >&2; exit 2; }
[ -n "$missing" ] || exit 0

install="apt-get update && apt-get install -y --no-install-recommends$missing"
if [ "$(id -u)" != 0 ]; then
  echo "Some packages are missing. Run this, then try again:" >&2
  echo "  sudo sh -c '$install'" >&2
  exit 2
fi
echo "installing$missing"
log=$(mktemp)
if ! DEBIAN_FRONTEND=noninteractive sh -c "$install" >"$log" 2>&1; then
  tail -20 "$log" >&2
  echo "the packages could not be installed; by hand: $install" >&2
  exit 2
fi
rm -f "$log"
