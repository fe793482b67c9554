#!/usr/bin/env bash
# Installs the Debian packages Tarnfell needs to run ("run") or to be tested ("test"), if they are missing.
set -euo pipefail

case "${1:-}" in
  run) packages=(libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0) ;;
  # The servers are what a site really meets: the tests ask them as a probe would.
  test) packages=(
    chromium chromium-driver chromium-headless-shell iproute2 nftables poppler-utils procps coturn kamailio nginx-light unbound
  ) ;;
  *) echo "usage: $0 run|test" >&2; exit 2 ;;
esac

command -v dpkg-query >/dev/null || exit 0 # not Debian: whoever runs this brings their own
missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0

as_root=()
if [ "$(id -u)" -ne 0 ]; then
  command -v sudo >/dev/null || { echo "Install these packages first: ${missing[*]}" >&2; exit 1; }
  as_root=(sudo)
fi
# Servers are for the tests to start, not for the system.
policy=/usr/sbin/policy-rc.d
if [ ! -e "$policy" ]; then
  trap '"${as_root[@]}" rm -f "$policy"' EXIT
  printf '#!/bin/sh\nexit 101\n' | "${as_root[@]}" tee "$policy" >/dev/null
  "${as_root[@]}" chmod 755 "$policy"
fi
"${as_root[@]}" apt-get update -qq
DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
