#!/usr/bin/env bash
# How fast a backlog of changes captured from MariaDB is applied, how long a commit takes
# from there to the target, and what following it costs. The last line is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/capture -source mariadb "$@"
