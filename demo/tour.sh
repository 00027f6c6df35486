#!/usr/bin/env bash
# Walks the whole path through the client on the running demo: load, joiner, approve, release, read back, verify.
# Prints each command and what came back; exits non-zero when anything is not as it should be.
set -euo pipefail
cd "$(dirname "$0")/.."
port=${DEMO_PORT:-7430}
folder=${DEMO_FOLDER:-$PWD/.demo}
export OIKONOM_URL=http://127.0.0.1:$port
XDG_CONFIG_HOME=$(mktemp -d); export XDG_CONFIG_HOME
trap 'rm -rf "$XDG_CONFIG_HOME"' EXIT
unset OIKONOM_TOKEN || true
oikonom=bin/oikonom

bold() { if [ -t 1 ] && [ -z "${NO_COLOR:-}" ]; then printf '\n\033[1m%s\033[0m\n' "$1"; else printf '\n%s\n' "$1"; fi; }
run() { bold "\$ $*"; "$@"; }
fail() { echo "tour: $1" >&2; exit 1; }
as() { bold "# signed in as $1"; $oikonom sign-in "$1" --password-stdin <<< northmere-demo; }
field() { node -e 'let t="";process.stdin.on("data",d=>t+=d).on("end",()=>{const v=new Function("x","return "+process.argv[1])(JSON.parse(t));if(v===undefined||v===null)process.exit(1);console.log(v)})' "$1"; }
state() { $oikonom requests show "$1" --output json | field x.summary.state; }
wait_for() { for _ in $(seq 150); do s=$(state "$1"); [ "$s" = "$2" ] && return 0; sleep 0.2; done; fail "request $1 is $s, not $2"; }

curl -fsS "$OIKONOM_URL/health/ready" >/dev/null || fail "the demo does not run on port $port; start it with 'make demo'."

bold "HR exports eight joiners"
run curl -fsS -X POST "http://127.0.0.1:$((port + 1))/exports/people-with-joiners"
as ines
run $oikonom intake run hr --dry-run
run $oikonom intake run hr
number=$($oikonom requests list --kind joiner --text E1301 --output json | field 'x.items[0].number')
[ -n "$number" ] || fail "no request was raised for E1301"
if [ "$(state "$number")" != completed ]; then
  wait_for "$number" deciding
  run $oikonom requests list

  as mara
  run $oikonom inbox
  run $oikonom requests show "$number"
  run $oikonom requests approve "$number" --yes --remark "Welcome, Kaya"
  [ "$(state "$number")" = releasing ] || fail "the request was not approved"

  as otto
  run $oikonom requests release "$number" --yes

  bold "The mail server has no interface: the desk makes her mailbox"
  for _ in $(seq 50); do task=$($oikonom tasks list --output json | field 'x.items.find(t=>t.requestNumber=='"$number"'&&t.state!="done")?.id') && break; sleep 0.2; done
  run $oikonom tasks done "$task" --set store=mail-01 --remark "a first mail went out"
  wait_for "$number" completed
  joined=yes
fi
as otto
run $oikonom requests show "$number"
run $oikonom people show E1301
office=$($oikonom targets list --output json | field 'String(x.items.some(t=>t.name=="office"))')
for target in directory records shop; do run $oikonom targets check $target; done
[ "$office" = false ] || run $oikonom targets check office

bold "The entry as the directory itself shows it"
entry=$(LDAPTLS_CACERT="$folder/directory/ca.pem" ldapsearch -x -LLL -H "ldaps://127.0.0.1:$((port + 6))" \
  -D cn=oikonom,ou=services,dc=northmere,dc=example -w service-password -b ou=people,dc=northmere,dc=example '(employeeNumber=E1301)' uid mail title memberOf)
echo "$entry"
grep -q '^uid: kaya.omori-lindqvist$' <<< "$entry" || fail "the entry is not there"
[ "$(grep -c '^memberOf:' <<< "$entry")" -ge 3 ] || fail "the entry is not in its three groups"

if [ "$office" = true ]; then
  bold "The user as the domain controller itself shows her"
  entry=$(LDAPTLS_CACERT="$folder/office/ca.pem" ldapsearch -x -LLL -H ldaps://127.0.0.1:636 -D svc-oikonom@office.northmere.example \
    -w Office-Service-7 -b OU=People,DC=office,DC=northmere,DC=example '(employeeID=E1301)' sAMAccountName userPrincipalName userAccountControl memberOf)
  echo "$entry"
  [ -z "${joined:-}" ] || [ "$(grep -c '^memberOf:' <<< "$entry")" = 2 ] || fail "she is not in the domain with its two groups"
fi

bold "The user as each application itself shows her"
for application in "records $((port + 8)) keeper" "shop $((port + 9)) buyer"; do
  read -r name at role <<< "$application"
  user=$(curl -fsSG --cacert "$folder/$name/ca.pem" -H "Authorization: Bearer $name-demo-token" "https://localhost:$at/scim/v2/Users" --data-urlencode 'filter=externalId eq "E1301"')
  field 'JSON.stringify(x.Resources[0],null,2)' <<< "$user"
  # Later she moves, and the records are not hers any more.
  [ -z "${joined:-}" ] || [ "$(field 'x.Resources.filter(u=>u.active&&u.roles.some(r=>r.value=="'"$role"'")).length' <<< "$user")" = 1 ] || fail "she is not in $name as $role"
done

bold "She needs to dive: asked for, asked back, answered, decided by her manager and by the owner"
as ines
until=$(date -d '+60 days' +%F)
wish=(access --person E1301 --entitlement directory/dive-team --until "$until" --reason "Covers the kelp tank")
access=$($oikonom requests list --kind access --text E1301 --output json | field 'x.items[0]?.number') || access=
if [ -z "$access" ]; then
  run $oikonom requests new "${wish[@]}" --dry-run
  run $oikonom requests new "${wish[@]}"
  access=$($oikonom requests list --kind access --text E1301 --output json | field 'x.items[0].number')
  wait_for "$access" deciding
  as mara
  run $oikonom requests ask "$access" "Who dives with her?"
  [ "$(state "$access")" = asked ] || fail "the question does not stop the request"
  as ines
  run $oikonom requests answer "$access" "Tomas, every time."
  as mara
  run $oikonom requests approve "$access" --yes
  as tomas
  run $oikonom inbox
  run $oikonom requests approve "$access" --yes
fi
as otto
wait_for "$access" completed
run $oikonom requests show "$access"

bold "The tank is full: her manager ends the dive access before its time"
as mara
end=$($oikonom requests list --kind end --text E1301 --output json | field 'x.items[0]?.number') || end=
if [ -z "$end" ]; then
  run $oikonom requests end-access E1301 directory/dive-team --reason "The kelp tank is done"
  end=$($oikonom requests list --kind end --text E1301 --output json | field 'x.items[0].number')
fi
wait_for "$end" completed

bold "She moves to the visitors: what she gains, keeps and loses is said before anybody says yes"
as ines
mover=$($oikonom requests list --kind mover --text E1301 --output json | field 'x.items[0]?.number') || mover=
if [ -z "$mover" ]; then
  run $oikonom requests new mover --person E1301 --set department="Visitor Services" --set title=Guide --reason "tells visitors of the seals"
  mover=$($oikonom requests list --kind mover --text E1301 --output json | field 'x.items[0].number')
  wait_for "$mover" deciding
  as mara
  run $oikonom requests show "$mover"
  run $oikonom requests approve "$mover" --yes
  as otto
  run $oikonom requests release "$mover" --yes
fi
as otto
wait_for "$mover" completed
run $oikonom people show E1301

bold "Somebody changes her entry behind our back: it is seen, and set right"
as otto
if command -v ldapmodify >/dev/null; then
  dn=$($oikonom people show E1301 --output json | field 'x.accounts[0].location')
  printf 'dn: %s\nchangetype: modify\nreplace: title\ntitle: Admiral\n' "$dn" |
    LDAPTLS_CACERT="$folder/directory/ca.pem" ldapmodify -x -H "ldaps://127.0.0.1:$((port + 6))" \
      -D cn=root,dc=northmere,dc=example -w root-password
  run $oikonom people look E1301
  right=$($oikonom requests list --kind change --text E1301 --output json | field 'x.items[0].number')
  wait_for "$right" releasing
  run $oikonom requests release "$right" --yes
  wait_for "$right" completed
  run $oikonom people look E1301
else
  echo "ldapmodify is not here, so nobody changes it (apt-get install ldap-utils)."
fi

bold "The shop's own people rename her there: it is asked what changed, and set right"
shop() { curl -fsS --cacert "$folder/shop/ca.pem" -H "Authorization: Bearer shop-demo-token" "$@"; }
run $oikonom targets reconcile shop --changes >/dev/null || [ $? = 1 ]
user=$(shop -G "https://localhost:$((port + 9))/scim/v2/Users" --data-urlencode 'filter=externalId eq "E1301"' | field 'x.Resources[0].id')
shop -X PATCH -H "Content-Type: application/scim+json" "https://localhost:$((port + 9))/scim/v2/Users/$user" -o /dev/null \
  -d '{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"displayName","value":"The new one"}]}'
run $oikonom targets reconcile shop --changes || [ $? = 1 ]
for _ in $(seq 50); do right=$($oikonom requests list --kind change --text E1301 --state releasing --output json | field 'x.items[0]?.number') && break; sleep 0.2; done
run $oikonom requests show "$right"
run $oikonom requests release "$right" --yes
wait_for "$right" completed

if [ "$office" = true ] && command -v ldapdelete >/dev/null && ! $oikonom requests list --kind change --text E1086 --output json | field 'x.items[0]?.number' >/dev/null; then
  bold "Somebody deletes a user of the domain: what changed is asked for, and he is brought back as himself"
  domain() { LDAPTLS_CACERT="$folder/office/ca.pem" "$1" -x -H ldaps://127.0.0.1:636 -D administrator@office.northmere.example -w Tide-and-Current-7 "${@:2}"; }
  account() { $oikonom people show E1086 --output json | field "x.accounts.find(a=>a.target=='office')?.$1"; }
  was=$(account immutableId)
  domain ldapdelete "$(account location)"
  run $oikonom targets reconcile office --changes || [ $? = 1 ]
  for _ in $(seq 50); do back=$($oikonom requests list --kind change --text E1086 --output json | field 'x.items[0]?.number') && break; sleep 0.2; done
  wait_for "$back" releasing
  run $oikonom requests show "$back"
  run $oikonom requests release "$back" --yes
  wait_for "$back" completed
  [ "$(account immutableId)" = "$was" ] || fail "E1086 is not who was deleted"
  domain ldapsearch -LLL -b OU=People,DC=office,DC=northmere,DC=example "(employeeID=E1086)" sAMAccountName objectSid memberOf
fi

bold "The directory has groups that nobody told of: they are read, not typed"
as edda
if [ "$($oikonom targets catalogue directory --output json | field x.differs)" = true ]; then
  run $oikonom targets catalogue directory --publish --yes
fi
run $oikonom targets catalogue directory

bold "HR says that two people leave: her manager agrees about one, and says no about the other"
leaver() { $oikonom requests list --kind leaver --text "$1" --output json | field 'x.items[0]?.number'; }
if ! leaver E1041 >/dev/null; then
  last=$(date -d "+30 days" +%F)
  sed -i -E "s/^(P4104[12],([^,]*,){5}),/\1$last,/" "$folder/sources/people.csv"
  as ines
  run $oikonom intake run hr
  as mara
  for who in E1041 E1042; do
    for _ in $(seq 50); do leaver $who >/dev/null && break; sleep 0.2; done
    wait_for "$(leaver $who)" deciding
  done
  run $oikonom requests show "$(leaver E1042)"
  run $oikonom requests approve "$(leaver E1042)" --yes
  run $oikonom requests decline "$(leaver E1041)" --reason "Tilda stays; HR means somebody else" --yes
  as otto
  wait_for "$(leaver E1042)" releasing
  run $oikonom requests release "$(leaver E1042)" --yes
fi
as mara
run $oikonom today

as aldo
run $oikonom requests history "$access"
run $oikonom ledger list --limit 8
for _ in $(seq 50); do [ "$($oikonom ledger verify --output json | field x.unsealed)" = 0 ] && break; sleep 0.2; done
run $oikonom ledger verify

bold "The mails that were sent"
curl -fsS "http://127.0.0.1:$((port + 2))/messages" | field 'x.slice(0,6).map(m=>m.to+": "+m.subject).join("\n")' || fail "no mail was sent"
bold "All is as it should be."
