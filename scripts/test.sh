#!/usr/bin/env bash
# Builds everything, runs every suite, and closes with one line of real counts.
set -uo pipefail
cd "$(dirname "$0")/.."
make --no-print-directory build || exit 1
dotnet build Oikonom.slnx -c Debug -p:RunAnalyzers=false --nologo -v quiet -clp:ErrorsOnly || { echo "test: the tests do not build." >&2; exit 1; }
passed=0 failed=0 skipped=0
outs=$(mktemp -d)
trap 'rm -rf "$outs"' EXIT
only=${1:-}

# Runs a suite; what it says, its exit code and its seconds are kept until they are told.
run() {
  local start=$SECONDS
  if [ "$1" = Pages ]; then
    (cd console && npx --no-install vitest run --reporter=json --outputFile="$outs/Pages" >/dev/null 2>&1)
  else
    "tests/$1/bin/Debug/net10.0/Oikonom.$1.Tests" -noColor -noLogo -printMaxEnumerableLength 20 >"$outs/$1" 2>&1
  fi
  echo "$? $((SECONDS - start))" >"$outs/$1.end"
}

tell() {
  local code seconds line p f s
  read -r code seconds <"$outs/$1.end"
  echo "== $1"
  if [ "$1" = Pages ]; then
    counts=$(node -e 'const r=JSON.parse(require("fs").readFileSync(process.argv[1]));for(const f of r.testResults)for(const t of f.assertionResults)if(t.status==="failed")console.error(t.fullName,t.failureMessages.join("\n"));console.log(r.numPassedTests,r.numFailedTests+r.numFailedTestSuites*(r.numFailedTests?0:1),r.numPendingTests)' "$outs/Pages") || counts="0 1 0"
    read -r p f s <<<"$counts"
  else
    line=$(grep -E 'Total: [0-9]+, Errors' "$outs/$1" | tail -n 1)
    grep -vE '^\s*$|Discover|Starting:|Finished:|TEST EXECUTION' "$outs/$1"
    if [ -z "$line" ]; then echo "test: the suite $1 ended without a count (exit code $code)." >&2; failed=$((failed + 1)); return; fi
    number() { sed -E "s/.*$1: ([0-9]+).*/\1/" <<<"$line"; }
    f=$(($(number Failed) + $(number Errors))); s=$(($(number Skipped) + $(number 'Not Run')))
    p=$(($(number Total) - f - s))
    [ "$code" -eq 0 ] || [ $f -gt 0 ] || { echo "test: $1 ended with exit code $code." >&2; failed=$((failed + 1)); }
  fi
  passed=$((passed + p)); failed=$((failed + f)); skipped=$((skipped + s))
  echo "   $seconds s"
}

if [ -n "$only" ]; then
  run "$only"; tell "$only"
else
  # These need a processor at most each, or wait for servers: side by side they take half as long.
  (run Core; run Fuzz) & (run Ldap; run Store; run Pages) & wait
  for suite in Core Fuzz Ldap Store Pages; do tell $suite; done
  for suite in Service Cli Console; do run $suite; tell $suite; done
fi
echo
# Which they were, and the first line of why, once more: what went before may be long.
[ $failed -eq 0 ] || grep -h -A 1 '\[FAIL\]' "$outs"/* | cut -c 1-300
echo "$passed passed, $failed failed, $skipped skipped in $SECONDS s with the build"
[ $failed -eq 0 ] && [ $passed -gt 0 ]
