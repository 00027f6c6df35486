#!/usr/bin/env bash
# Builds the service, the client and the stand-ins into bin/.
set -euo pipefail
cd "$(dirname "$0")/.."
# Compiled ahead where the compiler for it can be had, so that a start does not wait for it; else it runs all the same.
ahead=(-r linux-x64 --self-contained false -p:PublishReadyToRun=true)
if [ "$(uname -m)" != x86_64 ] || ! dotnet restore src/Oikonom.Service -r linux-x64 -p:PublishReadyToRun=true --nologo -v quiet >/dev/null 2>&1; then
  echo "build: the ahead-of-time compiler is not to be had; the service will start more slowly."
  ahead=()
fi
publish() {
  dotnet publish "src/$1" -c Release -o "bin/$2" --nologo -v quiet -clp:ErrorsOnly "${ahead[@]}" || { echo "build: $1 did not build; the errors stand above." >&2; exit 1; }
}
mkdir -p bin
publish Oikonom.Service service
publish Oikonom.Cli client
publish Oikonom.Standins standins
ln -sfn service/oikonomd bin/oikonomd
ln -sfn client/oikonom bin/oikonom
echo "build: bin/oikonomd and bin/oikonom are ready."
