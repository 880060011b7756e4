#!/usr/bin/env bash
# Takes the pictures of docs/screenshots anew from a running server with the demo
# world: e2e/shots.sh ADDRESS, as the server printed it, with its key.
set -euo pipefail
cd "$(dirname "$0")"
base=${1%%/#*} key=${1##*#key=} out=../docs/screenshots
state=$(mktemp -d)/session.json
trap 'rm -r "$(dirname "$state")"' EXIT
node shots.mjs "$out" --base "$base" --key "$key" --state "$state" cases=/cases "beginning=/cases/{Radio room}/beginning" "prepare=/cases/{Slip}/prepare" "start-check=/cases/{North}/check" "evidence=/cases/{Purser}/evidence" \
  "references=/cases/{Purser}/evidence?view=references" "pieces+=/cases/{Chart}/evidence?view=pieces" \
  "start-check-wrong-disk=/cases/{kiosk South}/check" "bytes=/cases/{Engine}/check#clone,%20Table" \
  "runs=/cases/{kiosk South}/check#tab:One%20drive" "lookup=/lookup?q=no%20bootable%20device" \
  "bench=/bench?case={Purser}#Switch%20on" "repair=/cases/{North}/repair" "first-start=/cases/{Harbour}/first-start" "hand-over=/cases/{Harbour}/hand-over" figures=/figures
node shots.mjs "$out" --base "$base" --state "$state" --theme dark "start-check-depends=/cases/{Engine}/check"
