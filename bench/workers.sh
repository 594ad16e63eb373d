#!/usr/bin/env bash
# A load with 1, 2 and 4 worker processes whose links to the source are slow, beside what
# the links can carry. The last line is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/workers "$@"
