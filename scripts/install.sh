#!/usr/bin/env bash
# Installs what is missing for 'demo' or 'test' from the system's packages. Says what to do when it cannot.
set -euo pipefail
need=()
want() { [ -e "$1" ] || need+=("${@:2}"); }
want /usr/sbin/slapd slapd
want /usr/bin/ldapsearch ldap-utils
want /usr/lib/ldap/ppolicy.so slapd
want /usr/share/zoneinfo/Europe/Lisbon tzdata
command -v curl >/dev/null || need+=(curl)
if [ "${1:-demo}" = test ]; then
  ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || need+=(postgresql)
  want /usr/bin/chromium chromium fonts-dejavu-core
  want /usr/bin/samba-tool samba samba-dsdb-modules samba-vfs-modules samba-ad-provision winbind python3-samba ldb-tools krb5-user
fi
command -v dotnet >/dev/null || { echo "install: the .NET 10 SDK is missing; install it first." >&2; exit 1; }
command -v node >/dev/null || { echo "install: node 20 is missing; install it first." >&2; exit 1; }
# The demo runs without its domain controller, too; then it says so.
extra=()
if [ "${1:-demo}" = demo ] && [ ! -e /usr/bin/samba-tool ]; then
  extra=(samba samba-dsdb-modules samba-vfs-modules samba-ad-provision winbind python3-samba ldb-tools)
fi
[ ${#need[@]} -eq 0 ] && [ ${#extra[@]} -eq 0 ] && exit 0
if [ ${#need[@]} -eq 0 ] && [ "$(id -u)" != 0 ]; then exit 0; fi
echo "install: ${need[*]} ${extra[*]}"
if [ "$(id -u)" != 0 ]; then
  if command -v sudo >/dev/null; then sudo=sudo; else
    echo "install: run as root: apt-get install ${need[*]}" >&2; exit 1; fi
fi
log=$(mktemp)
# A package that brings a service of its own must not start it: the project runs private servers.
policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then printf '#!/bin/sh\nexit 101\n' | ${sudo:-} tee $policy >/dev/null; ${sudo:-} chmod +x $policy; made=1; fi
trap '[ -z "${made:-}" ] || ${sudo:-} rm -f '"$policy" EXIT
install() { [ $# -eq 0 ] || ${sudo:-} env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@"; }
if ! { ${sudo:-} apt-get update -qq && install "${need[@]}"; } >"$log" 2>&1 && [ ${#need[@]} -gt 0 ]; then
  tail -n 15 "$log" >&2
  echo "install: the packages above could not be installed; the whole log is $log. Check that apt-get works, then run this again." >&2
  exit 1
fi
install "${extra[@]}" >>"$log" 2>&1 || echo "install: without ${extra[*]}; the demo's office domain is left out."
rm -f "$log"
