#!/usr/bin/env bash
# Sessions through a gateway beside those straight to the server and through a bare forwarder: ROUNDS, SECONDS_EACH.
# The last line is a JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
exec go run ./bench/gateway -rounds "${ROUNDS:-5}" -seconds "${SECONDS_EACH:-5}" "$@"
