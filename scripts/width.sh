#!/usr/bin/env bash
# No line of code is over 140 characters; in tests, samples of data may be.
set -euo pipefail
cd "$(dirname "$0")/.."
export LC_ALL=C.UTF-8
long=$(git ls-files -z 'src/*.cs' 'bench/*.cs' 'tests/*.cs' 'console/src/*.ts' 'console/src/*.tsx' |
  xargs -0 grep -HnE '^.{141,}$' -- 2>/dev/null | grep -vE '^(tests/[^:]+:[0-9]+:.*["{].*")' || true)
[ -z "$long" ] && exit 0
echo "width: over 140 characters:" >&2
cut -c1-160 <<< "$long" >&2
exit 1
