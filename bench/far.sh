#!/usr/bin/env bash
# Our load to a target that is 50 and 150 ms away, and with 5 MB/s a connection, beside two psql in a
# pipe over the same link. The last line of each is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
go run ./bench/load --rows 2000000 --pairs 3 --trip 50ms "$@"
go run ./bench/load --rows 2000000 --pairs 3 --trip 150ms "$@"
exec go run ./bench/load --rows 500000 --pairs 3 --trip 50ms --rate 5000000 "$@"
