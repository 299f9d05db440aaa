#!/usr/bin/env bash
# Says which lines are too long: 120 columns at most, a tab counted as four. In Markdown, tables, code and links are let
# be. And where the service decides by the text of an error, which is for people: errors have types.
set -euo pipefail
cd "$(dirname "$0")/.."
long=$(git ls-files '*.go' '*.md' | grep -v /testdata/ | xargs awk '
	FNR == 1 { code = 0 }
	/^ *```/ { code = !code }
	{ line = $0; gsub(/\t/, "    ", line) }
	length(line) > 120 && !(FILENAME ~ /\.md$/ && (code || line ~ /^ *\|/ || line ~ /https?:|\]\(/)) { print FILENAME ":" FNR ": " length(line) " columns" }')
[ -z "$long" ] || { echo "these lines are longer than 120 columns:"; echo "$long"; exit 1; }
deciding=$(git ls-files '*.go' | grep -vE '_test\.go$|/sourcetest/' |
	xargs grep -nE 'strings\.(Contains|HasPrefix|HasSuffix|EqualFold)\([a-z]*[eE]rr[a-z]*\.Error\(\)' || true)
[ -z "$deciding" ] || { echo "these decide by the text of an error:"; echo "$deciding"; exit 1; }
