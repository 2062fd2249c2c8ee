#!/bin/sh
# Installs the Debian packages that the tests (or the screenshots, or the tests
# of the program for Windows) need, when something is missing. Without root or apt-get it names what is missing; the
# tests that need it are then skipped, and say so.
set -eu
export PATH="$PATH:/usr/sbin:/sbin"

case "${1:-test}" in
test)
    tools="mariadbd mariadb mariadb-dump mariadb-install-db php zstd sqlite3 psql pg_dump pg_ctlcluster sshd ssh-keygen ssh-agent apache2 proftpd openssl age unzip ip setpriv nsd unbound rpm mkfs.xfs"
    packages="mariadb-server-core mariadb-client php-cli php-mysql php-gd php-xml php-mbstring zstd sqlite3 postgresql wordpress wordpress-theme-twentytwentythree openssh-server openssh-client apache2-bin proftpd-core proftpd-mod-crypto openssl age unzip iproute2 util-linux nsd unbound rpm xfsprogs python3-prometheus-client python3-pyftpdlib"
    files="/usr/lib/python3/dist-packages/prometheus_client/openmetrics/parser.py /usr/lib/python3/dist-packages/pyftpdlib/servers.py /usr/lib/postgresql /usr/lib/apache2/modules/mod_dav_fs.so /usr/lib/proftpd/mod_tls.so /usr/share/wordpress/wp-load.php /usr/share/wordpress/wp-content/themes/twentytwentythree/style.css"
    ;;
screenshots)
    tools="Xvfb xterm import chromium sqlite3"
    packages="xvfb xterm imagemagick chromium fonts-dejavu-core sqlite3"
    files=""
    ;;
windows)
    tools="wine x86_64-w64-mingw32-gcc sshd ssh-keygen"
    packages="wine wine64 gcc-mingw-w64-x86-64-win32 openssh-server openssh-client"
    files=""
    ;;
*)
    echo "usage: $0 [test|screenshots|windows]" >&2
    exit 2
    ;;
esac

# What checks that pages can be read by everybody, from the npm registry, by its digest. Without npm that one
# test is skipped, and says so.
axe=4.14.1
cache="${XDG_CACHE_HOME:-$HOME/.cache}/revlet-tests/axe-core-$axe"
if [ "${1:-test}" = test ] && [ ! -e "$cache/axe.min.js" ] && command -v npm >/dev/null 2>&1; then
    there=$(mktemp -d)
    if (cd "$there" && npm pack --silent "axe-core@$axe" >/dev/null && echo "e6b0ce02b84d892e2e33e403485e7f3d6c29e2be6df65daf44d89ba564139745  axe-core-$axe.tgz" | sha256sum -c --quiet && tar xzf "axe-core-$axe.tgz" package/axe.min.js); then
        mkdir -p "$cache" && mv "$there/package/axe.min.js" "$cache/"
    fi
    rm -rf "$there"
fi

missing=""
for t in $tools; do command -v "$t" >/dev/null 2>&1 || missing="$missing $t"; done
for f in $files; do [ -e "$f" ] || missing="$missing $f"; done
[ -z "$missing" ] && exit 0

echo "missing:$missing"
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1; then
    echo "not root, or no apt-get here: install $packages" >&2
    exit 0
fi

# No service is to start: the tests run private servers of their own.
policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then
    printf '#!/bin/sh\nexit 101\n' >$policy
    chmod 755 $policy
    trap 'rm -f $policy' EXIT
fi
export DEBIAN_FRONTEND=noninteractive
log=$(mktemp)
echo "installing with apt-get (log: $log)"
if ! { apt-get update -qq && apt-get install -y -qq --no-install-recommends $packages; } >"$log" 2>&1; then
    cat "$log" >&2
    exit 1
fi
