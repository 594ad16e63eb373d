#!/usr/bin/env bash
# Loads of files of rows into PostgreSQL beside psql's own copy: FORM (csv, jsonl, parquet, xlsx), ROWS, PAIRS.
# The last line is a JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
exec go run ./bench/files -form "${FORM:-csv}" -rows "${ROWS:-2000000}" -pairs "${PAIRS:-3}" "$@"
