#!/usr/bin/env bash
# Installs by apt what is missing here; nothing when all is there. Arguments:
# "server" for PostgreSQL, "directory" for the demo's LDAP servers, "clients" for
# what benchmarks are compared with, "browser" for Chromium and fonts.
set -euo pipefail
root() { if [[ $(id -u) == 0 ]]; then "$@"; else sudo "$@"; fi; }
want=()
for part in "$@"; do
  case $part in
    server) compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || want+=(postgresql) ;;
    directory) [[ -x /usr/sbin/slapd ]] || want+=(slapd) ;;
    clients) [[ -x /usr/bin/ldapsearch ]] || want+=(ldap-utils) ;;
    browser)
      [[ -x /usr/bin/chromium ]] || want+=(chromium)
      [[ -d /usr/share/fonts/truetype/noto ]] || want+=(fonts-noto-core)
      ;;
  esac
done
if ((${#want[@]} == 0)); then exit 0; fi
echo "installing ${want[*]}" >&2
# the package would make and start a cluster of its own; we keep private ones
root mkdir -p /etc/postgresql-common/createcluster.d
echo 'create_main_cluster = false' | root tee /etc/postgresql-common/createcluster.d/twinning.conf >/dev/null
# nor may a directory server of the system's own be started
root mkdir -p /etc/ldap
root touch /etc/ldap/noslapd
export DEBIAN_FRONTEND=noninteractive
root apt-get update -qq
root apt-get install -y -qq --no-install-recommends "${want[@]}" >/dev/null
