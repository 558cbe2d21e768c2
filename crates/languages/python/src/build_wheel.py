"""Builds a wheel of the source in the working folder, as its build backend says (PEP 517).

Arguments: the folder that the wheel is put in, the backend as module:object, folders that it is looked for in.
"""

import importlib
import importlib.metadata
import os
import re
import sys

result, backend, *folders = sys.argv[1:]
# Not the working folder: only the folders that the source names hold its own backend.
sys.path[:1] = [os.path.abspath(folder) for folder in folders]
module, _, attributes = backend.partition(":")
hooks = importlib.import_module(module)
for attribute in filter(None, attributes.split(".")):
    hooks = getattr(hooks, attribute)


def is_missing(requirement):
    name = re.match(r"[A-Za-z0-9._-]+", requirement).group()
    try:
        importlib.metadata.version(name)
    except importlib.metadata.PackageNotFoundError:
        return True
    return False


wanted = getattr(hooks, "get_requires_for_build_wheel", lambda: [])()
missing = sorted(filter(is_missing, wanted))
if missing:
    sys.exit("build packages that the source does not name: " + ", ".join(missing))
hooks.build_wheel(result)
