#!/bin/sh
# Prints an [indexes] table for kladder's config.toml: the indexes that this machine's own clients use, asked of them.
set -eu
wheels=$(python3 -m pip config get global.index-url 2>/dev/null ||
    python3 -c 'from pip._internal.models.index import PyPI; print(PyPI.simple_url)' 2>/dev/null || true)
packages=$(npm config get registry 2>/dev/null || true)
echo "[indexes]"
if [ -n "$wheels" ]; then echo "wheels = { kind = \"python\", address = \"$wheels\" }"; fi
if [ -n "$packages" ]; then echo "packages = { kind = \"npm\", address = \"$packages\" }"; fi
if [ -d /etc/apt ]; then
    echo "debian = { kind = \"debian\", as-configured = true }"
    # The release after the one that the catalog is of has some that this one lacks; from where this one comes.
    archive=$(apt-get indextargets --format '$(REPO_URI)' 'Component: main' 'Created-By: Packages' 2>/dev/null | head -n 1)
    if [ -n "$archive" ]; then
        echo "debian-13 = { kind = \"debian\", address = \"$archive\", suites = [\"trixie\"], components = [\"main\"] }"
    fi
fi
