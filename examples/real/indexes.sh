#!/bin/sh
# Prints an [indexes] table for kladder's config.toml: the indexes that this machine's own clients use, asked of them.
set -eu
wheels=$(python3 -m pip config get global.index-url 2>/dev/null ||
    python3 -c 'from pip._internal.models.index import PyPI; print(PyPI.simple_url)' 2>/dev/null || true)
packages=$(npm config get registry 2>/dev/null || true)
echo "[indexes]"
if [ -n "$wheels" ]; then echo "wheels = { kind = \"python\", address = \"$wheels\" }"; fi
if [ -n "$packages" ]; then echo "packages = { kind = \"npm\", address = \"$packages\" }"; fi
# The catalog's Debian packages are of two releases; what a Debian machine is not itself, comes from where its own packages come.
system=$(. /etc/os-release 2>/dev/null && echo "${ID-}") || system=
release=$(. /etc/os-release 2>/dev/null && echo "${VERSION_CODENAME-}") || release=
archive=$(apt-get indextargets --format '$(REPO_URI)' 'Component: main' 'Created-By: Packages' 2>/dev/null | head -n 1) || archive=
debian() {
    if [ "$release" = "$2" ]; then
        echo "$1 = { kind = \"debian\", as-configured = true }"
    elif [ "$system" = debian ] && [ -n "$archive" ]; then
        echo "$1 = { kind = \"debian\", address = \"$archive\", suites = [\"$2\"], components = [\"main\"] }"
    elif [ "$1" = debian ] && [ -d /etc/apt ]; then
        echo "$1 = { kind = \"debian\", as-configured = true }"
    fi
}
debian debian bookworm
debian debian-13 trixie
