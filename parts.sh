#!/bin/sh
# What each part of a crossing costs, by a profile of crossings in one process: samples of the test's own side are left
# out, those of garbage collection are not. Where a part works for another (the driver has the messages read), it counts
# for the one that is named first here.
set -e
export GOGC=300 # as the service has it
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
go test -run '^$' -bench 'CrossingParts$' -benchtime "${PARTS_TIME:-6s}" -cpuprofile "$dir/cpu" -o "$dir/test" ./internal/gate >"$dir/out"
within='driving\.\(\*Room\)|store\.\(\*Store\)\.writer|store\.\(\*TraceLog\)\.run|runtime\.gcBgMarkWorker|runtime\.bgsweep'
# took REGEXP IGNORED: seconds of samples with a frame that matches, and none that is ignored
took() {
  go tool pprof -top -nodecount=100000 -nodefraction=0 -show_from="$within" -focus="$1" -ignore="$2" "$dir/test" "$dir/cpu" 2>/dev/null |
    sed -n 's/^Showing nodes accounting for \([0-9.]*\)\(m\{0,1\}s\).*/\1 \2/p' | awk '{ print $2 == "ms" ? $1 / 1000 : $1 }'
}
all=$(took . 'Sweep')
seen=Sweep
echo
echo "What a crossing from SAML to SAML with RSA-2048 costs the gate, in parts of its time on the processor:"
while IFS="|" read -r name frames; do
  s=$(took "$frames" "$seen")
  awk -v n="$name" -v s="${s:-0}" -v all="$all" 'BEGIN { printf "  %-52s %5.2f\n", n, s / all }'
  seen="$seen|$frames"
done <<'PARTS'
signatures (wanted 0.55, aim 0.70)|^crypto/rsa\.|^crypto/ecdsa\.|internal/core/xmlsec\.signatureMethod
garbage collection|runtime\.gcBgMarkWorker|runtime\.bgsweep|runtime\.gcAssistAlloc
traces|store\.\(\*TraceLog\)|driving\.\(\*Room\)\.trace
committing|gorm\.\(\*DB\)\.Commit|gorm\.\(\*DB\)\.Begin
writing rows|store\.\(\*Store\)\.writer
reading rows|gorm\.|database/sql
XML|internal/core/xmlsec\.
messages|internal/core/saml\.
deciding|internal/core/crossing
all else|.
PARTS
