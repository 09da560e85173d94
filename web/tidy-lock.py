"""Tidy package-lock.json after `npm install`: no addresses of registries, and no optional packages
of platforms that the registry in use does not have, since `npm ci` would miss them.
"""

import json
from pathlib import Path

path = Path(__file__).parent / "package-lock.json"
lock = json.loads(path.read_text())
packages = lock["packages"]
names = {key.rpartition("node_modules/")[2] for key in packages}
for package in packages.values():
    package.pop("resolved", None)
    optional = package.get("optionalDependencies", {})
    for name in [name for name in optional if name not in names]:
        del optional[name]
path.write_text(json.dumps(lock, indent=2) + "\n")
