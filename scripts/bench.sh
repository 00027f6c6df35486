#!/usr/bin/env bash
# Measures against the raw protocol in the same run, and prints the ratios.
set -euo pipefail
cd "$(dirname "$0")/.."
make --no-print-directory build
exec dotnet run -c Release --project bench/Oikonom.Bench -- "$@"
