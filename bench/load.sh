#!/usr/bin/env bash
# Our load of a large table beside two psql in a pipe (binary COPY) at the same
# number of streams, in interleaved pairs. The last line is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/load "$@"
