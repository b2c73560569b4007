#!/usr/bin/env bash
# Regenerates in a copy and compares: generated code must be current.
set -euo pipefail
cd "$(dirname "$0")/.."
copy=$(mktemp -d)
trap 'rm -rf "$copy"' EXIT
files=(internal/httpapi/openapi/openapi.gen.go internal/apiclient/apiclient.gen.go console/src/api/schema.ts)
for f in "${files[@]}"; do mkdir -p "$copy/$(dirname "$f")" && cp "$f" "$copy/$f"; done
make -s generate >/dev/null
status=0
for f in "${files[@]}"; do
  if ! cmp -s "$f" "$copy/$f"; then
    echo "$f is not what api/openapi.yaml says: run make generate and commit it" >&2
    cp "$copy/$f" "$f"
    status=1
  fi
done
exit $status
