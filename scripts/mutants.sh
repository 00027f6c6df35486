#!/usr/bin/env bash
# Changes the code of one room of the core (or one file of it) a little, again and again, and tells which changes no test notices.
# Usage: scripts/mutants.sh Planning | Approval/Standing
set -euo pipefail
cd "$(dirname "$0")/.."
room=${1:?Say which room of the core: Planning, Approval/Standing ...}
case $room in */*) files="**/$room.cs" ;; *) files="**/$room/*.cs" ;; esac
dotnet tool restore >/dev/null
mkdir -p .mutants
out=$PWD/.mutants/${room//\//-}
# A mutant that no longer ends counts as found; texts of messages are left out.
(cd tests/Core && dotnet stryker --project Oikonom.Core.csproj --test-runner mtp --mutate "$files" --reporter json --output "$out" \
  --configuration Debug --skip-version-check --config-file ../../scripts/mutants.json "${@:2}" >"$out.log" 2>&1) || { tail -n 20 "$out.log"; exit 1; }
node scripts/survivors.mjs "$out/reports/mutation-report.json"
