#!/usr/bin/env bash
# How fast a backlog of captured changes is applied, beside the limit: a receiver
# that reads the same log from the same server and only counts. The last line is
# one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/capture "$@"
