#!/bin/sh
# Installs Debian packages, saying so; who is not root is told what to run.
set -e
if [ "$(id -u)" != 0 ]; then
	echo "Missing: $*. Install with: sudo apt-get install $*" >&2
	exit 1
fi
echo "Installing Debian's packages: $*"
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null
