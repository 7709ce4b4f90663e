#!/usr/bin/env bash
# Installs what is missing of the programs that Osprey is built, run and tested
# with. PostgreSQL, MariaDB and Chromium come from Debian's packages; Go and Node.js are
# asked for, since Debian's may be too old.
set -euo pipefail

need_go=1.26
need_node=20

fail() { echo "tools: $*" >&2; exit 1; }

older() { [ "$(printf '%s\n%s\n' "$1" "$2" | sort -V | head -n 1)" != "$2" ]; }

command -v go > /dev/null || fail "Go is not installed; version $need_go or newer is needed"
version=$(go env GOVERSION)
! older "${version#go}" "$need_go" || fail "Go $need_go or newer is needed, found ${version#go}"
command -v node > /dev/null && command -v npm > /dev/null || fail "Node.js is not installed; version $need_node or newer with npm is needed"
version=$(node --version)
! older "${version#v}" "$need_node" || fail "Node.js $need_node or newer is needed, found ${version#v}"

missing=()
compgen -G '/usr/lib/postgresql/*/bin/postgres' > /dev/null || missing+=(postgresql)
for part in "$@"; do
  case $part in
    # The server alone: mysql_install_db is in its package, and what that calls
    # in the client's.
    mariadb) command -v mariadbd > /dev/null && command -v my_print_defaults > /dev/null || missing+=(mariadb-server-core mariadb-client-core) ;;
    # The race detector is C, and so are the programs that it is built into.
    race) command -v gcc > /dev/null && [ -e /usr/include/stdlib.h ] || missing+=(gcc libc6-dev) ;;
    # What runs the calls that osprey snippet writes; Node.js builds the console, too.
    snippets)
      command -v python3 > /dev/null || missing+=(python3)
      command -v curl > /dev/null || missing+=(curl ca-certificates)
      ;;
    editor) command -v nvim > /dev/null || missing+=(neovim) ;;
    browser) command -v chromium > /dev/null || missing+=(chromium) ;;
    *) fail "unknown part $part" ;;
  esac
done
[ ${#missing[@]} -eq 0 ] && exit 0

command -v apt-get > /dev/null || fail "missing: ${missing[*]}; there is no apt-get to install them with"
as_root=()
if [ "$(id -u)" -ne 0 ]; then
  if command -v sudo > /dev/null && sudo -n true 2> /dev/null; then
    as_root=(sudo -n)
  else
    fail "missing: ${missing[*]}; as root, run: apt-get install ${missing[*]}"
  fi
fi
echo "tools: installing ${missing[*]}"
"${as_root[@]}" apt-get update -qq
# A cluster of the package's own is not wanted: the demo and the tests make theirs.
"${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" > /dev/null
