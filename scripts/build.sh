#!/usr/bin/env bash
# Builds the service, the client and the stand-ins into bin/.
set -euo pipefail
cd "$(dirname "$0")/.."
publish() {
  dotnet publish "src/$1" -c Release -o "bin/$2" --nologo -v quiet -clp:ErrorsOnly "${@:3}" || { echo "build: $1 did not build; the errors stand above." >&2; exit 1; }
}
mkdir -p bin
publish Oikonom.Service service
publish Oikonom.Cli client
publish Oikonom.Standins standins
ln -sfn service/oikonomd bin/oikonomd
ln -sfn client/oikonom bin/oikonom
echo "build: bin/oikonomd and bin/oikonom are ready."
