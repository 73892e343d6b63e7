#!/usr/bin/env bash
# Installs what the tests need and runs every test. Ends non-zero if one fails.
set -euo pipefail
cd "$(dirname "$0")"

declare -A package=([chromium]=chromium [xmlsec1]=xmlsec1 [xmllint]=libxml2-utils [openssl]=openssl)
missing=()
for program in chromium xmlsec1 xmllint openssl; do
  command -v "$program" >/dev/null || missing+=("${package[$program]}")
done
if [ ${#missing[@]} -gt 0 ]; then
  if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
    echo "The tests need these packages: ${missing[*]}" >&2
    echo "Install them (apt-get install ${missing[*]}) and run make test again." >&2
    exit 1
  fi
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi
for program in go node npm gcc make; do
  command -v "$program" >/dev/null || { echo "$program is missing; install Go 1.26, Node 20, gcc and make." >&2; exit 1; }
done

make build
npm --prefix console run -s test
test -z "$(gofmt -l cmd internal e2e demo)" || { echo "not formatted:"; gofmt -l cmd internal e2e demo; exit 1; }
go vet ./...
INNERGATE_BIN="$PWD/bin/innergate" go test -count=1 -timeout 28m ./...
