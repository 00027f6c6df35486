#!/usr/bin/env bash
# Builds the console into console/dist when anything it is made of changed.
set -euo pipefail
cd "$(dirname "$0")/../console"
stamp=dist/.built
sum() { find src tools index.html package.json package-lock.json vite.config.ts tsconfig.json ../docs/openapi.json ../schemas -type f -not -path '*/node_modules/*' -not -name schema.d.ts -print0 2>/dev/null | sort -z | xargs -0 sha256sum | sha256sum; }
now=$(sum)
[ -f "$stamp" ] && [ "$(cat "$stamp")" = "$now" ] && exit 0
fail() { echo "console: $1" >&2; exit 1; }
lock() { sha256sum package-lock.json tools/package-lock.json | sha256sum; }
if [ ! -f node_modules/.lock ] || [ "$(cat node_modules/.lock)" != "$(lock)" ]; then
  npm ci --no-audit --no-fund --ignore-scripts --loglevel=error || fail "npm ci failed; check that the npm registry is reached."
  (cd tools && npm ci --no-audit --no-fund --ignore-scripts --loglevel=error) || fail "npm ci failed in console/tools."
  lock > node_modules/.lock
fi
npm run --silent generate || fail "the client could not be generated from docs/openapi.json."
npm run --silent build || fail "the console did not build; the errors stand above."
echo "$now" > "$stamp"
