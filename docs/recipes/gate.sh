#!/bin/sh
# A gate for a pipeline: what a change of the exports does to risk and cost, what is wrong, and whether the month stays within its limit.
# usage: gate.sh BEFORE AFTER REPORTS   (folders, packages, addresses, git:REV:PATH or @N; run where zeitbuch.toml is)
# Writes REPORTS/findings.sarif, REPORTS/findings.junit.xml, REPORTS/changes.md and REPORTS/changes.html. Ends with 0 when all is well, with 1 when
# a person has to look, with 2 when something could not be read.
set -u
before=$1 after=$2 reports=$3
mkdir -p "$reports"
worst=0
unreadable() { [ "$1" -eq 2 ] && worst=2; return 0; }
note() { [ "$1" -gt "$worst" ] && worst=$1; return 0; }

zeitbuch check "$after" -f sarif -o "$reports/findings.sarif" --quiet; note $?
zeitbuch check "$after" -f junit -o "$reports/findings.junit.xml" --quiet --fail-on high; note $?
zeitbuch diff "$before" "$after" -f markdown -o "$reports/changes.md" --quiet --fail-on risk --max-increase 10%; note $?
zeitbuch diff "$before" "$after" -o "$reports/changes.html" --quiet; unreadable $?
zeitbuch estimate "$after" --max-per-month "${LIMIT_PER_MONTH:-500}" --runs 0 --top 5 --quiet; note $?
exit "$worst"
