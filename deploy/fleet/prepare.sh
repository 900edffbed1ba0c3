#!/bin/sh
# Makes what three gates and three NATS servers need to know one another: an authority in this folder, and in keys what they get. It makes nothing twice.
#
#   sh deploy/fleet/prepare.sh bin/kindred
set -eu
kindred=$(realpath "${1:?usage: prepare.sh KINDRED}")
cd "$(dirname "$0")"
mkdir -p keys
[ -f keys/gates.seeds ] || "$kindred" gates prepare keys/gates.seeds > keys/authorization.conf
if [ ! -f keys/nats.pem ]; then
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 3650 -subj "/CN=fleet authority" -keyout authority.key -out keys/authority.pem
  openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj "/CN=nats" -addext "subjectAltName=DNS:nats-1,DNS:nats-2,DNS:nats-3,DNS:nats-0.nats,DNS:nats-1.nats,DNS:nats-2.nats,DNS:localhost,IP:127.0.0.1" -keyout keys/nats.key -out keys/nats.csr
  openssl x509 -req -in keys/nats.csr -CA keys/authority.pem -CAkey authority.key -set_serial 0x$(openssl rand -hex 8) -days 3650 -copy_extensions copy -out keys/nats.crt
  cat keys/nats.crt keys/authority.pem > keys/nats.pem # the chain has the authority, by which machines know the servers
  rm keys/nats.csr
fi
chmod 600 authority.key keys/nats.key keys/gates.seeds
