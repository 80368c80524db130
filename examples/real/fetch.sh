#!/bin/sh
# Brings exactly the files that the catalog beside this script pins into the folder yard/. Needs Python's pip and a
# network; kladder compares every byte with the digests in the catalog afterwards.
set -eu
cd "$(dirname "$0")"
machine=$(uname -m)
case $(uname -s)-$machine in
    Linux-x86_64 | Linux-aarch64) ;;
    *) echo "fetch.sh: the catalog has these tools for Linux on x86_64 and aarch64 only" >&2; exit 1 ;;
esac
for tool in cmake==4.4.4 ninja==1.13.2 ziglang==0.17.1; do
    python3 -m pip download --no-deps --only-binary=:all: --disable-pip-version-check --dest yard "$tool"
done
