"""Makes an app of many invented packages: make_node_app.py COUNT MIRROR APP REGISTRY

Sizes follow what registries hold: most packages are a few files of some kilobytes, a few are large.
"""
import base64
import gzip
import hashlib
import io
import json
import os
import random
import sys
import tarfile

count, mirror, app, registry = int(sys.argv[1]), sys.argv[2], sys.argv[3], sys.argv[4]
chance = random.Random(7)
WORDS = "tide ferry quay buoy rope anchor sail harbour deck mast hull keel wake swell".split()


def source(size):
    lines = []
    while sum(map(len, lines)) < size:
        a, b = chance.choice(WORDS), chance.randrange(10**6)
        lines.append(f"exports.{a}{b} = (x) => x + {b}; // {' '.join(chance.choices(WORDS, k=5))}\n")
    return "".join(lines).encode()


def package(number):
    name = f"{chance.choice(WORDS)}-{number}"
    manifest = {"name": name, "version": "1.0.0", "main": "index.js", "license": "MIT"}
    files = {"package.json": json.dumps(manifest).encode(), "index.js": source(800)}
    for part in range(min(int(chance.paretovariate(0.9)) * 4, 400)):
        files[f"lib/part{part}.js"] = source(int(chance.paretovariate(1.1) * 900) % 60_000)
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as tar:
        for path, data in files.items():
            info = tarfile.TarInfo("package/" + path)
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
    archive = gzip.compress(raw.getvalue(), mtime=0)
    folder = os.path.join(mirror, name, "-")
    os.makedirs(folder, exist_ok=True)
    with open(os.path.join(folder, f"{name}-1.0.0.tgz"), "wb") as file:
        file.write(archive)
    integrity = "sha512-" + base64.b64encode(hashlib.sha512(archive).digest()).decode()
    return name, len(files), integrity


packages = [package(number) for number in range(count)]
dependencies = {name: "^1.0.0" for name, _, _ in packages}
entries = {"": {"name": "app", "version": "1.0.0", "dependencies": dependencies}}
for name, _, integrity in packages:
    url = f"{registry}/{name}/-/{name}-1.0.0.tgz"
    entries[f"node_modules/{name}"] = {"version": "1.0.0", "resolved": url, "integrity": integrity, "license": "MIT"}
os.makedirs(app, exist_ok=True)
manifest = {"name": "app", "version": "1.0.0", "scripts": {"start": "node server.js"}, "dependencies": dependencies}
lock = {"name": "app", "version": "1.0.0", "lockfileVersion": 3, "requires": True, "packages": entries}
for name, document in (("package.json", manifest), ("package-lock.json", lock)):
    with open(os.path.join(app, name), "w") as file:
        json.dump(document, file, indent=2)
with open(os.path.join(app, "server.js"), "w") as file:
    file.write("console.log('the ferry sails');\n")
print(f"{count} packages, {sum(n for _, n, _ in packages)} files", file=sys.stderr)
