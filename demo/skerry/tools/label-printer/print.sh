#!/bin/sh
# Prints the label of a route, or all of them.
set -e
# labels go here
echo "$labels" | while IFS=: read -r route text; do
  if [ -n "$route" ] && { [ "$1" = all ] || [ "$1" = "$route" ]; }; then
    printf '%-14s %s\n' "$route" "$text"
  fi
done
