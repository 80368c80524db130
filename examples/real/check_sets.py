"""Chooses the libraries of real projects, and holds each choice against the packaging specifications.

    check_sets.py KLADDER CATALOG FOLDER [NAME…]

FOLDER has a home of Kite Ladder in `home`, with `wheels` among its [indexes]. For each project of projects.txt a ladder wants
the project in a set; what `kladder pin` locks is read and judged by the reference implementation of the specifications, which
comes with the Python that runs this. Prints a line for each project, and what was found in the end; ends with 1 where a choice
is wrong.
"""

import json
import os
import pathlib
import subprocess
import sys
import time
import tomllib

from pip._vendor.packaging import tags
from pip._vendor.packaging.markers import default_environment
from pip._vendor.packaging.requirements import Requirement
from pip._vendor.packaging.specifiers import SpecifierSet
from pip._vendor.packaging.utils import canonicalize_name, parse_wheel_filename
from pip._vendor.packaging.version import Version

LIBC = 36


def platforms():
    yield from (f"manylinux_2_{minor}_x86_64" for minor in range(LIBC, 4, -1))
    yield from ("manylinux2014_x86_64", "manylinux2010_x86_64", "manylinux1_x86_64", "linux_x86_64")


FITS = set(tags.cpython_tags((3, 11), platforms=platforms())) | set(
    tags.compatible_tags((3, 11), interpreter="cp311", platforms=platforms())
)
HERE = default_environment() | {
    "python_version": "3.11",
    "python_full_version": "3.11.2",
    "sys_platform": "linux",
    "platform_system": "Linux",
    "platform_machine": "x86_64",
    "os_name": "posix",
    "implementation_name": "cpython",
    "platform_python_implementation": "CPython",
}


def metadata(home, wheel):
    text = (home / "cache/listed/metadata" / wheel["hashes"]["sha256"]).read_text(errors="replace")
    head = text.split("\n\n")[0].splitlines()
    return [line.split(":", 1)[1].strip() for line in head if line.lower().startswith("requires-dist:")]


def wanted(needs, extras):
    for text in needs:
        need = Requirement(text)
        for extra in {"", *extras}:
            if need.marker is None or need.marker.evaluate(HERE | {"extra": extra}):
                yield need
                break


def judge(home, lock, project):
    """What is wrong with a lock file; nothing where it is right."""
    wrong, libraries = [], {package["name"]: package for package in lock["packages"]}
    if len(libraries) != len(lock["packages"]):
        wrong.append("a library stands there twice")
    for name, package in libraries.items():
        for wheel in package["wheels"]:
            of, version, _, its_tags = parse_wheel_filename(wheel["name"])
            if of != name or version != Version(package["version"]):
                wrong.append(f"{wheel['name']} is no wheel of {name} {package['version']}")
            if not its_tags & FITS:
                wrong.append(f"{wheel['name']} does not fit")
        if not SpecifierSet(package.get("requires-python", "")).contains("3.11.2"):
            wrong.append(f"{name} wants Python {package['requires-python']}")
    queue, seen = [(canonicalize_name(project), frozenset())], set()
    while queue:
        name, extras = queue.pop()
        if (name, extras) in seen:
            continue
        seen.add((name, extras))
        if name not in libraries:
            wrong.append(f"{name} is not there")
            continue
        for need in wanted(metadata(home, libraries[name]["wheels"][0]), extras):
            other = canonicalize_name(need.name)
            there = libraries.get(other)
            if there and not need.specifier.contains(there["version"], prereleases=True):
                wrong.append(f"{name} needs {need}, and {there['version']} is there")
            queue.append((other, frozenset(canonicalize_name(extra) for extra in need.extras)))
    for name in libraries.keys() - {name for name, _ in seen}:
        wrong.append(f"{name} is there, and nobody needs it")
    return wrong


def main():
    kladder, catalog, folder, *names = sys.argv[1:]
    folder = pathlib.Path(folder).absolute()
    home, bad, refused, libraries = folder / "home", 0, 0, 0
    listed = (pathlib.Path(__file__).parent / "projects.txt").read_text().split()
    names = names or listed
    for name in names:
        desk = folder / "desks" / name
        desk.mkdir(parents=True, exist_ok=True)
        (desk / "ladder.toml").write_text(f'[rungs]\npython = "any"\n[sets.choice.libraries]\n"{name}" = "any"\n')
        begun = time.time()
        run = subprocess.run(
            [kladder, "--catalog", catalog, "pin"],
            cwd=desk,
            env=os.environ | {"KLADDER_HOME": str(home)},
            capture_output=True,
            text=True,
        )
        took = time.time() - begun
        if run.returncode:
            refused += 1
            print(f"{name}: refused ({run.returncode}) in {took:.1f} s", *run.stderr.splitlines()[1:4], sep="\n    ", flush=True)
            continue
        lock = tomllib.loads((desk / "pylock.choice.toml").read_text())
        wrong = judge(home, lock, name)
        libraries += len(lock["packages"])
        bad += bool(wrong)
        print(f"{name}: {len(lock['packages'])} in {took:.1f} s", *wrong, sep="\n    ", flush=True)
    print(json.dumps({"projects": len(names), "wrong": bad, "refused": refused, "libraries": libraries}))
    return 1 if bad else 0


sys.exit(main())
