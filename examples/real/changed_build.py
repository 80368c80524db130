"""Makes a changed build of a wheel, and an index (PEP 503) that has it alone: changed_build.py WHEEL LOCAL FOLDER.

The build has the version of the wheel with +LOCAL behind it. FOLDER is what a web server should show.
"""

import base64
import hashlib
import pathlib
import sys
import zipfile

wheel, local, folder = pathlib.Path(sys.argv[1]), sys.argv[2], pathlib.Path(sys.argv[3])
name, version, rest = wheel.name.split("-", 2)
changed = f"{version}+{local}"
old, new = f"{name}-{version}.dist-info", f"{name}-{changed}.dist-info"
project = name.lower().replace("_", "-")
(folder / project).mkdir(parents=True, exist_ok=True)
out = folder / project / f"{name}-{changed}-{rest}"
rows = []
with zipfile.ZipFile(wheel) as source, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target:
    for path in source.namelist():
        if path == f"{old}/RECORD" or path.endswith("/"):
            continue
        data = source.read(path)
        if path == f"{old}/METADATA":
            data = data.replace(f"\nVersion: {version}\n".encode(), f"\nVersion: {changed}\n".encode())
        path = path.replace(old, new)
        target.writestr(path, data)
        digest = base64.urlsafe_b64encode(hashlib.sha256(data).digest()).rstrip(b"=").decode()
        rows.append(f"{path},sha256={digest},{len(data)}\n")
    target.writestr(f"{new}/RECORD", "".join(rows) + f"{new}/RECORD,,\n")
digest = hashlib.sha256(out.read_bytes()).hexdigest()
(folder / project / "index.html").write_text(
    f'<!DOCTYPE html><a href="{out.name.replace("+", "%2B")}#sha256={digest}">{out.name}</a>\n'
)
print(out)
