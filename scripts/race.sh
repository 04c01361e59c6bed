#!/bin/sh
# Runs tests with the race detector. race.sh PACKAGE...
# The TCP/IP stack of the simulated devices is a library that races with itself where a router forwards. Reports in which both
# sides are that library's own code are counted and passed over; any other, and any test that fails for another reason, fails.
set -eu
if ! command -v "$(go env CC)" >/dev/null 2>&1; then
  echo "No C compiler here, so the race detector is left out."
  exit 0
fi
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
status=0
CGO_ENABLED=1 GORACE="log_path=$dir/report" go test -timeout 20m -race "$@" >"$dir/out" 2>&1 || status=$?
grep '^ok' "$dir/out" || true
[ "$status" = 0 ] && exit 0

# accesses prints, for each side of each report, the innermost function that is not the standard library's.
accesses() {
  cat "$dir"/report.* 2>/dev/null | awk '
    /^(Write|Read|Previous write|Previous read|Atomic|Previous atomic)/ { looking = 1; next }
    looking && $1 ~ /^(airdrift|[a-z0-9-]+(\.[a-z0-9-]+)+)\// { print $1; looking = 0 }'
}
count=$(accesses | wc -l)
own=$(accesses | grep -vc '^gvisor\.dev/' || true)
other=$(grep -E '^ +[A-Za-z0-9_]+\.go:[0-9]+: ' "$dir/out" | grep -v 'race detected during execution of test' || true)
if [ "$count" = 0 ] || [ "$own" != 0 ] || [ -n "$other" ] || grep -q '^panic: ' "$dir/out"; then
  cat "$dir/out" "$dir"/report.* 2>/dev/null
  exit 1
fi
echo "Races of the library of the simulated devices with itself: $((count / 2)), passed over."
