#!/usr/bin/env bash
# Comparing with a target that is 50 ms away over 5 MB/s a connection, beside what both servers need to hash
# their own rows; and without a link. The last line of each is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go run ./bench/compare "$@"
go run ./bench/compare --engine mariadb "$@"
exec go run ./bench/compare --trip 0 --rate 0 "$@"
