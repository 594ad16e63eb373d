#!/usr/bin/env bash
# Our load between MariaDB and PostgreSQL, one way and the other, beside the two
# bare ends, each by itself: the client reading to nothing, and COPY or LOAD DATA
# from files. The last line of each is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
go run ./bench/load --from mariadb --rows 1000000 "$@"
exec go run ./bench/load --to mariadb --rows 1000000 "$@"
