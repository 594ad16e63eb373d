#!/usr/bin/env bash
# One of the measurements of this folder for this tree and for the tree of an earlier commit,
# by turns: bench/beside.sh -commit COMMIT -bench load [-rounds N] [-- flags of that one].
# The last line is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/build-console
exec go run ./bench/beside "$@"
