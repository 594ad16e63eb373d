#!/usr/bin/env bash
# Our load, with changes followed, of a table with a random key that is larger than the source's
# cache: in the order of the disk and in that of the key, beside two psql in a pipe. The last line is
# one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/load --random --rows 3000000 --pairs 3 "$@"
