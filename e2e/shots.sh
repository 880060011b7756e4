#!/usr/bin/env bash
# Takes the pictures of docs/screenshots anew from a running server with the demo
# world: LATCHKEY_URL=http://127.0.0.1:8384 e2e/shots.sh
set -euo pipefail
cd "$(dirname "$0")"
out=../docs/screenshots
id() { curl -s "${LATCHKEY_URL:=http://127.0.0.1:8384}/api/v1/cases?q=$1" | sed -n 's/.*"cases":\[{"id":\([0-9]*\).*/\1/p'; }
north=$(id North) engine=$(id Engine) south=$(id kiosk+South) purser=$(id Purser) chart=$(id Chart)
node shots.mjs "$out" cases=/cases "start-check=/cases/$north/check" "evidence=/cases/$purser/evidence" \
  "references=/cases/$purser/evidence?view=references" "pieces=/cases/$chart/evidence?view=pieces" \
  "start-check-wrong-disk=/cases/$south/check" "bytes=/cases/$engine/check#clone,%20Table" settings=/settings \
  "runs=/cases/$south/check#tab:One%20drive" "said+=/cases/$engine/check" "lookup=/lookup?q=no%20bootable%20device" \
  "bench=/bench?case=$purser#Switch%20on" "repair=/cases/$north/repair" "first-start=/cases/$(id Harbour)/first-start"
node shots.mjs "$out" --theme dark "start-check-depends=/cases/$engine/check"
