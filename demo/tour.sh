#!/usr/bin/env bash
# The whole story, unattended, through the real command line against a service
# of its own. Ends with 0 only if it came out right.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
chmod o+x "$work" # started as root, the database server runs as another account
export TWINNING_CREDENTIALS=$work/credentials.json
twinning=bin/twinning
cleanup() { [[ -n ${demo:-} ]] && kill "$demo" 2>/dev/null && wait "$demo" 2>/dev/null; rm -rf "$work"; }
trap cleanup EXIT

say() { printf '\n\033[1m# %s\033[0m\n' "$*"; }
# run EXPECTED-EXIT COMMAND…: shows the command, runs it, checks its exit code
run() {
  local want=$1 got=0
  shift
  printf '\n$ twinning %s\n' "$*"
  "$twinning" "$@" || got=$?
  if [[ $got != "$want" ]]; then
    echo "tour: exit $got where $want was expected" >&2
    exit 1
  fi
}
# misbehave JSON: tells the application of the demo to be slow, or well again
misbehave() {
  local at=$application body=$1
  exec 3<>"/dev/tcp/${at%:*}/${at#*:}"
  printf 'PUT /standin/misbehave HTTP/1.1\r\nHost: %s\r\nConnection: close\r\nContent-Length: %d\r\n\r\n%s' "$at" "${#body}" "$body" >&3
  cat <&3 >/dev/null
  exec 3>&-
}
field() { "$twinning" "$@" -o json | tr ',{}' '\n\n\n'; }

"$twinning" demo --listen 127.0.0.1:0 --data-dir "$work/demo" >"$work/demo.log" 2>&1 &
demo=$!
for _ in $(seq 300); do grep -q 'console ' "$work/demo.log" && break; kill -0 "$demo" 2>/dev/null || { cat "$work/demo.log"; exit 1; }; sleep 0.2; done
address=$(awk '/console /{print $2}' "$work/demo.log")
TWINNING_PASSWORD=$(sed -n 's/.*password: //p' "$work/demo.log")
export TWINNING_PASSWORD
application=$(sed -n 's|.*an application (SCIM) at http://\([0-9.:]*\),.*|\1|p' "$work/demo.log")

say "The night pass found a house that has changed. Sign in and look."
run 0 sign-in --address "$address" --name admin
run 0 system list
run 0 lane list
say "What is it connected to, and does each connection hold? Step by step."
run 0 system probe hq
run 0 system probe candlewick
run 0 system probe dome-booking
run 0 system probe night-log
run 0 system probe mail-gate
say "Look before trusting: what would be understood, before it becomes a roster."
run 0 system preview candlewick --first 3
run 0 system preview mail-gate --first 3
say "Take rosters: the whole list, and then only what changed."
for s in dome-booking night-log candlewick hq; do run 0 roster take $s; done
run 0 roster take hq --extent changes --name "a moment later"
run 0 roster list hq
hq=$(field roster list hq | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 roster rejected "$hq"
run 0 roster statistics "$hq"
say "What the night changed: roster 1 is of the first day."
run 0 roster compare "$hq" --with 1
run 0 roster history hq L0950
run 0 roster export "$hq" --columns id,givenName,familyName,email --first 3
say "A narrower scope is not a mass departure: it has to be said."
run 0 system change hq --set "filter=(l=Cerro Alto)"
run 1 roster take hq
run 0 system change hq --set filter=
run 0 roster take hq
say "Which attributes identify? Names do not: candlewick shares namesakes with hq, and no number."
run 0 roster keys hq dome-booking
run 0 roster keys hq candlewick
say "The lane's rules, checked without any service."
run 0 charter check demo/hq-dome-booking.yaml
say "Recognise who is who. 3 means: there is something to do."
run 3 reconcile hq-dome-booking
run 0 twin list hq-dome-booking --state contested
run 0 twin why hq-dome-booking --person L0924
say "A human decides: Rosa's second account is hers, and the old one is closed elsewhere."
run 0 twin rule hq-dome-booking same --person L0924 --account u90924 --reason "checked with Rosa"
say "How far can evidence be trusted here? Known twins are held back, and it looks for them. Nothing is changed."
run 0 twin trial hq-dome-booking
say "The radio array was taken over: two directories that share few keys. Evidence tells who works here already."
run 3 reconcile hq-candlewick
run 0 twin list hq-candlewick --state twinned
run 0 twin why hq-candlewick --person L0901
say "What is not sure is asked, never guessed: a short form, a father's name, a new number on a shut account."
run 0 twin review hq-candlewick --list
run 0 twin weights hq-candlewick
printf 's HR says she was hired again\nu\nq\n' | run 0 twin review hq-candlewick --code rehire
say "Rulings come back from a spreadsheet, too."
array=$("$twinning" twin review hq-candlewick --list --code rehire -o json | sed -n 's/^ *"account": "\(.*\)",*$/\1/p' | head -1)
printf 'person_id,account_id,ruling,reason\nL0956,%s,same,hired again\n' "$array" >"$work/rulings.csv"
run 0 twin rule-all hq-candlewick --file "$work/rulings.csv"
run 3 reconcile hq-candlewick
say "HR asks which columns they should send; what they send back is nearly right."
run 0 charter template hq-dome-booking
printf 'Larkspur people\nStaff no.;Nombre;Apellido;Correo;Ingreso\nL0001;Ana;Soto;ana.soto@larkspur.example;01.03.2019\nL0002;Bruno;Nakamura, Dr.;bruno.nakamura@larkspur.example;12.04.2020\nL0002;Twice;Listed;;\n' >"$work/hr.csv"
run 0 system put hr --kind file
run 0 system preview hr --file "$work/hr.csv" --pick Ingreso=startsOn --keep
say "A broken export is stopped, not acted upon: of the directory's people, forty are left."
"$twinning" roster export "$hq" --columns id,employeeNumber,givenName,familyName,email,title,department,location,active,userType,endsOn --out "$work/all.csv"
cat >"$work/file-shape.yaml" <<'SHAPE'
shape: {id: id, employeeNumber: employeeNumber, givenName: givenName, familyName: familyName, email: email, title: title, department: department, location: location, active: active, userType: userType, endsOn: endsOn}
SHAPE
run 0 system put hr --kind file --shape "$work/file-shape.yaml"
run 0 roster take hr --file "$work/all.csv"
sed 's/^  from: hq$/  from: hr/; s/^lane: .*/lane: hr-dome-booking/' demo/hq-dome-booking.yaml >"$work/hr-lane.yaml"
run 0 charter put "$work/hr-lane.yaml"
run 3 reconcile hr-dome-booking
say "A row has lost its number: whoever it is, nobody is created a second time. What is withheld says why."
sed '2s/^[^,]*,/,/' "$work/all.csv" >"$work/faceless.csv"
run 0 roster take hr --file "$work/faceless.csv"
run 3 reconcile hr-dome-booking
run 0 lane withheld hr-dome-booking --limit 4
head -40 "$work/all.csv" >"$work/short.csv"
run 0 roster take hr --file "$work/short.csv"
run 4 reconcile hr-dome-booking
say "Two lanes that hold the same accounts would ask about each of them. HR's was for looking at: it goes."
run 0 lane remove hr-dome-booking --yes
say "Once more with the whole list, then a plan: a dry run first, always."
run 3 reconcile hq-dome-booking
run 0 finding list hq-dome-booking --severity error
run 0 plan draft hq-dome-booking
plan=$(field plan list hq-dome-booking | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 plan show "$plan" --limit 200
say "Agree, change, watch, and read back."
# a seal names what is sealed: the hash that was shown, or the number of changes
hash=$(field plan show "$plan" --limit 1 | sed -n 's/.*"hash": "\([0-9a-f]\{12\}\).*/\1/p' | head -1)
run 2 plan seal "$plan" </dev/null
run 0 plan seal "$plan" --hash "$hash"
say "After the seal, legal asks that Kofi Asante's account stays as it is: what the change rests on has fallen, the rest goes on."
run 0 twin rule hq-dome-booking leave-alone --person L0953 --reason "legal hold"
say "A pilot wave first, and a look at what it did."
run 0 plan run "$plan" --wave pilot
run 0 plan verify "$plan"
say "The rest. Somebody calls in the middle of it: the run is halted after the change it is at, and later goes on from there."
misbehave '{"slowMillis": 300}'
run 0 plan run "$plan" --no-wait
receipts=$(field task list --limit 1 | sed -n 's/.*"run": \([0-9]*\).*/\1/p' | head -1)
sleep 2
run 0 run halt "$receipts"
for _ in $(seq 100); do field run show "$receipts" 2>/dev/null | grep -q '"state": "halted"' && break; sleep 0.1; done
run 1 run show "$receipts"
misbehave '{}'
run 1 plan run "$plan"
receipts=$(field task list --limit 1 | sed -n 's/.*"run": \([0-9]*\).*/\1/p' | head -1)
run 0 run receipts "$receipts" --bad
run 0 plan verify "$plan"
run 0 roster take dome-booking
say "The mail gateway speaks in files: what is written waits until its list shows it."
run 3 reconcile hq-mail-gate
run 0 plan draft hq-mail-gate
gate=$(field plan list hq-mail-gate | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
hash=$(field plan show "$gate" --limit 1 | sed -n 's/.*"hash": "\([0-9a-f]\{12\}\).*/\1/p' | head -1)
run 0 plan seal "$gate" --hash "$hash"
run 0 plan run "$gate"
head -4 "$work"/demo/service/files/mail-gate/inbox/*.csv
run 0 standin mail-gate --list "$work/demo/service/files/mail-gate/list.csv" --inbox "$work/demo/service/files/mail-gate/inbox"
run 0 roster take mail-gate
run 3 reconcile hq-mail-gate
say "A second reconciliation finds nothing left to do but what needs a human."
run 3 reconcile hq-dome-booking
changes=$("$twinning" lane show hq-dome-booking -o json | tr -d ' \n' | sed -n 's/.*"changes":{\([^}]*\)}.*/\1/p')
if [[ -n $changes ]]; then
  echo "tour: changes are left: $changes" >&2
  exit 1
fi
say "Somebody loses a badge: their account is shut by hand, as a plan of one, and the charter leaves it so until the day."
run 0 account suspend hq-dome-booking --person L0004 --reason "lost his badge" --until "$(date -d '+20 days' +%F)"
asked=$(field plan list hq-dome-booking | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 plan seal "$asked" --count 1
run 0 plan run "$asked"
run 0 plan verify "$asked"
done=$(field task list --limit 2 | sed -n 's/.*"run": \([0-9]*\).*/\1/p' | head -1)
run 0 run receipts "$done"
say "The badge is found: the run is undone, where the account is still as it has left it."
run 0 roster take dome-booking
run 3 reconcile hq-dome-booking
run 0 intention list hq-dome-booking --verb keep
run 0 run undo "$done" --reason "the badge was in the telescope"
undo=$(field plan list hq-dome-booking | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 plan seal "$undo" --count 1
run 0 plan run "$undo"
say "The badge office changed the sign-in: two people get new secrets, one by mail, one in a file that opens once."
run 0 account reissue hq-dome-booking --person L0006,L0007 --reason "the badge office changed the sign-in"
secrets=$(field plan list hq-dome-booking | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 plan seal "$secrets" --count 2
run 0 plan run "$secrets"
run 0 delivery list hq-dome-booking
cat "$work/demo/mail/letters.txt"
echo "four goats and a lantern" > "$work/phrase"
handed=$(field task list --limit 1 | sed -n 's/.*"run": \([0-9]*\).*/\1/p' | head -1)
run 0 delivery collect "$handed" --out "$work/secrets.age" --passphrase-file "$work/phrase"
run 1 delivery collect "$handed" --out "$work/again.age" --passphrase-file "$work/phrase"
run 0 delivery open "$work/secrets.age" --passphrase-file "$work/phrase"
say "A sheet goes out, one cell is edited, and it comes back as the draft of a plan."
run 0 roster take dome-booking
run 3 reconcile hq-dome-booking
run 0 sheet export hq-dome-booking --columns department --out "$work/accounts.csv"
sed -i '/^"u00004",/s/^\([^,]*,[^,]*,[^,]*,[^,]*\),[^,]*,/\1,Night crew,/' "$work/accounts.csv"
run 0 sheet load hq-dome-booking "$work/accounts.csv" --reason "he works at night now"
sheet=$(field plan list hq-dome-booking | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 plan void "$sheet"
run 0 audit check
say "The story came out right: no change is left, only people to ask about."
