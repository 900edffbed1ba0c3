#!/bin/sh
# Builds the release of the last commit in two clones, the second time with an empty build cache, and compares the bytes.
set -e
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
for n in 1 2; do
	git clone -q . "$work/$n"
	[ $n = 1 ] || export GOCACHE="$work/cache"
	make -s -C "$work/$n" release >/dev/null
done
cmp "$work/1/release/SHA256SUMS" "$work/2/release/SHA256SUMS"
(cd "$work/2/release" && sha256sum -c ../../1/release/SHA256SUMS)
echo "both builds are the same, byte for byte"
