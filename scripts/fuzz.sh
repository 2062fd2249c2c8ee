#!/bin/sh
# Runs every fuzz target of the project for a while, one after the other, and says how often
# each was tried: scripts/fuzz.sh 10m [NAME…]. What is found is kept in testdata by the go
# command, and becomes a test.
set -eu
cd "$(dirname "$0")/.."
time=$1
shift
failed=0
grep -rl '^func Fuzz' --include='*_test.go' internal | xargs -n1 dirname | sort -u | while read -r dir; do
	grep -ho '^func Fuzz[A-Za-z]*' "$dir"/*_test.go | cut -c6- | while read -r name; do
		[ $# = 0 ] || case " $* " in *" $name "*) ;; *) continue ;; esac
		out=$(${GO:-go} test -run '^$' -fuzz "^$name\$" -fuzztime "$time" -fuzzminimizetime 5x -parallel "${FUZZWORKERS:-1}" "./$dir" 2>&1) || failed=1
		printf '%-40s %s\n' "$dir" "$name: $(echo "$out" | grep -o 'execs: [0-9]*' | tail -1)"
		[ $failed = 0 ] || { echo "$out" | tail -20; exit 1; }
	done
done
