#!/bin/sh
# Runs every fuzz target of the module for a while, one after the other. fuzz.sh 60s
set -eu
time=${1:-60s}

# fuzz PACKAGE TARGET: -run matches nothing, as the tests have their own run; output is shown where it fails. On a busy machine
# the tool's own workers can be late at the end of the time, which it reports as a failure without an input that fails; then
# the target is run again.
fuzz() {
  for _ in 1 2 3; do
    if out=$(go test "$1" -run '^$' -fuzz "^$2\$" -fuzztime "$time" 2>&1); then
      return 0
    fi
    case $out in
      *"Failing input"* | *panic*) break ;;
      *"context deadline exceeded"*) ;;
      *) break ;;
    esac
  done
  echo "$out"
  return 1
}

go list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}} {{.ImportPath}}{{end}}' ./... | while read -r dir package; do
  grep -hoE '^func Fuzz[A-Za-z0-9]+' "$dir"/*_test.go 2>/dev/null | sed 's/^func //' | while read -r target; do
    echo "$package $target"
    fuzz "$package" "$target"
  done
done
