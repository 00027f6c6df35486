#!/usr/bin/env bash
# Builds everything, runs every suite, and closes with one line of real counts.
set -uo pipefail
cd "$(dirname "$0")/.."
make --no-print-directory build || exit 1
dotnet build Oikonom.slnx -c Debug -p:RunAnalyzers=false --nologo -v quiet -clp:ErrorsOnly || { echo "test: the tests do not build." >&2; exit 1; }
passed=0 failed=0 skipped=0
out=$(mktemp)
trap 'rm -f "$out"' EXIT
only=${1:-}
for suite in Core Fuzz Ldap Store Service Cli Console; do
  [ -z "$only" ] || [ "$only" = "$suite" ] || continue
  echo "== $suite"
  start=$SECONDS
  "tests/$suite/bin/Debug/net10.0/Oikonom.$suite.Tests" -noColor -noLogo -printMaxEnumerableLength 20 >"$out" 2>&1
  code=$?
  line=$(grep -E 'Total: [0-9]+, Errors' "$out" | tail -n 1)
  grep -vE '^\s*$|Discover|Starting:|Finished:|TEST EXECUTION' "$out"
  if [ -z "$line" ]; then echo "test: the suite $suite ended without a count (exit code $code)." >&2; failed=$((failed + 1)); continue; fi
  number() { sed -E "s/.*$1: ([0-9]+).*/\1/" <<< "$line"; }
  f=$(( $(number Failed) + $(number Errors) )); s=$(( $(number Skipped) + $(number 'Not Run') ))
  passed=$((passed + $(number Total) - f - s)); failed=$((failed + f)); skipped=$((skipped + s))
  [ $code -eq 0 ] || [ $f -gt 0 ] || { echo "test: $suite ended with exit code $code." >&2; failed=$((failed + 1)); }
  echo "   $((SECONDS - start)) s"
done
if [ -z "$only" ] || [ "$only" = Pages ]; then
  echo "== Pages"
  (cd console && npx --no-install vitest run --reporter=json --outputFile="$out" >/dev/null 2>&1)
  counts=$(node -e 'const r=JSON.parse(require("fs").readFileSync(process.argv[1]));for(const f of r.testResults)for(const t of f.assertionResults)if(t.status==="failed")console.error(t.fullName,t.failureMessages.join("\n"));console.log(r.numPassedTests,r.numFailedTests+r.numFailedTestSuites*(r.numFailedTests?0:1),r.numPendingTests)' "$out") || counts="0 1 0"
  read -r p f s <<< "$counts"
  passed=$((passed + p)); failed=$((failed + f)); skipped=$((skipped + s))
fi
echo
echo "$passed passed, $failed failed, $skipped skipped"
[ $failed -eq 0 ] && [ $passed -gt 0 ]
