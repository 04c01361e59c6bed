#!/bin/sh
# Runs every fuzz target of the module for a while, one after the other. fuzz.sh 60s
set -eu
time=${1:-60s}
go list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}} {{.ImportPath}}{{end}}' ./... | while read -r dir package; do
  grep -hoE '^func Fuzz[A-Za-z0-9]+' "$dir"/*_test.go 2>/dev/null | sed 's/^func //' | while read -r target; do
    echo "$package $target"
    # -run matches nothing: the tests have their own run. Output is shown where it fails.
    if ! out=$(go test "$package" -run '^$' -fuzz "^$target\$" -fuzztime "$time" 2>&1); then
      echo "$out"
      exit 1
    fi
  done || exit 1
done
