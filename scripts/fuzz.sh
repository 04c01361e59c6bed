#!/bin/sh
# Runs every fuzz target of the module for a while, one after the other. fuzz.sh 60s
set -eu
time=${1:-60s}
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT

# fuzz PROGRAM TARGET: -test.run matches nothing, as the tests have their own run; output is shown where it fails. On a busy machine
# the tool's own workers can be late at the end of the time, which it reports as a failure without an input that fails; then
# the target is run again.
fuzz() {
  for _ in 1 2 3; do
    if out=$("$1" -test.run '^$' -test.fuzz "^$2\$" -test.fuzztime "$time" -test.fuzzcachedir "$dir/corpus" 2>&1); then
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

# Each package is built once, whichever targets it has.
go list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}} {{.ImportPath}}{{end}}' ./... | while read -r place package; do
  targets=$(cat "$place"/*_test.go | grep -oE '^func Fuzz[A-Za-z0-9]+' | sed 's/^func //' || true)
  [ -n "$targets" ] || continue
  go test -c -fuzz . -o "$dir/test" "$package"
  for target in $targets; do
    echo "$package $target"
    (cd "$place" && fuzz "$dir/test" "$target")
  done
done
