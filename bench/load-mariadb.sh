#!/usr/bin/env bash
# Our load from MariaDB to PostgreSQL beside its two bare ends, each by itself: the
# client reading to nothing, and COPY from files. The last line is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/load --from mariadb --rows 1000000 "$@"
