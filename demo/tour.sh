#!/usr/bin/env bash
# The whole story, unattended, through the real command line against a service
# of its own. Ends with 0 only if it came out right.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
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
field() { "$twinning" "$@" -o json | tr ',{}' '\n\n\n'; }

"$twinning" demo --listen 127.0.0.1:0 --data-dir "$work/demo" >"$work/demo.log" 2>&1 &
demo=$!
for _ in $(seq 300); do grep -q 'console ' "$work/demo.log" && break; kill -0 "$demo" 2>/dev/null || { cat "$work/demo.log"; exit 1; }; sleep 0.2; done
address=$(awk '/console /{print $2}' "$work/demo.log")
TWINNING_PASSWORD=$(sed -n 's/.*password: //p' "$work/demo.log")
export TWINNING_PASSWORD

say "The night pass found a house that has changed. Sign in and look."
run 0 sign-in --address "$address" --name admin
run 0 system list
run 0 lane list
say "Look before trusting: both lists, and what could not be read."
run 0 roster take hq
run 0 roster take dome-booking
run 0 roster list hq
hq=$(field roster list hq | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 roster rejected "$hq"
say "The lane's rules, checked without any service."
run 0 charter check demo/hq-dome-booking.yaml
say "Recognise who is who. 3 means: there is something to do."
run 3 reconcile hq-dome-booking
run 0 twin list hq-dome-booking --state contested
run 0 twin why hq-dome-booking --person L0924
say "A human decides: Rosa's second account is hers, and the old one is closed elsewhere."
run 0 twin rule hq-dome-booking same --person L0924 --account u90924 --reason "checked with Rosa"
say "A broken export is stopped, not acted upon."
head -40 "$work/demo/hq.csv" >"$work/short.csv"
run 0 roster take hq --file "$work/short.csv"
run 4 reconcile hq-dome-booking
awk -F, 'BEGIN{OFS=","} NR>1{$5=""} {print}' "$work/demo/hq.csv" >"$work/emptied.csv"
run 0 roster take hq --file "$work/emptied.csv"
run 4 reconcile hq-dome-booking
run 0 finding list hq-dome-booking --code coverage-drop
run 0 roster take hq
say "Once more with the whole list, then a plan: a dry run first, always."
run 3 reconcile hq-dome-booking
run 0 finding list hq-dome-booking --severity error
run 0 plan draft hq-dome-booking
plan=$(field plan list hq-dome-booking | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
run 0 plan show "$plan" --limit 200
say "Agree, change, watch, and read back."
run 0 plan seal "$plan"
run 0 plan run "$plan"
run 0 plan verify "$plan"
run 0 roster take dome-booking
say "A second reconciliation finds nothing left to do but what needs a human."
run 3 reconcile hq-dome-booking
changes=$("$twinning" lane show hq-dome-booking -o json | tr -d ' \n' | sed -n 's/.*"changes":{\([^}]*\)}.*/\1/p')
if [[ -n $changes ]]; then
  echo "tour: changes are left: $changes" >&2
  exit 1
fi
run 0 audit check
say "The story came out right: no change is left, only people to ask about."
