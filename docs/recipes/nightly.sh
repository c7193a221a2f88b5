#!/bin/sh
# Every night: what changed since the last snapshot, what is newly wrong, which signatures lapsed; a new snapshot; the documents written anew.
# Prints a text for a mail (cron sends what a job prints, or pipe it: nightly.sh /srv/flows | mail -s "flows" owner@example.org).
# usage: nightly.sh FOLDER   (where zeitbuch.toml is)
# Ends with 0 when nothing needs a person, with 1 when something does, with 2 when something could not be read.
set -u
cd "$1" || exit 2
worst=0
unreadable() { [ "$1" -eq 2 ] && worst=2; return 0; }
note() { [ "$1" -gt "$worst" ] && worst=$1; return 0; }

printf 'Flows, %s\n\n' "$(date +%Y-%m-%d)"
if said=$(zeitbuch history --quiet 2>&1 >/dev/null); then
  printf 'What changed since the last snapshot\n\n'
  zeitbuch diff @latest --format brief --quiet; unreadable $?
  printf '\nWhat is newly wrong\n\n'
  zeitbuch check --since @latest --fail-on high --quiet --top 10; note $?
else
  case $said in
    *"[book-none]"*) printf 'No snapshot yet: this is the first.\n' ;;
    *) printf '%s\n' "$said"; worst=2 ;;
  esac
fi
printf '\nSnapshot\n\n'
zeitbuch record --by "${RECORDED_BY:-nightly}" --quiet; note $?
printf '\nSignatures\n\n'
signatures=$(zeitbuch review verify --quiet 2>&1 >/dev/null); note $?
printf '%s\n' "${signatures:-all hold}" | sed -n "1,${MOST:-20}p"
zeitbuch document -o "${DOCUMENTS:-documents}" --quiet; note $?
exit "$worst"
