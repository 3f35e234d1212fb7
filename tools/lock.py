"""Write the lock files: every package with its version and the hash of the file for this platform, no addresses.

    python tools/lock.py            from the three requirements files
    python tools/lock.py --check    whether a lock file holds an address

pip itself resolves; its installation report carries the hashes. The front end's lock loses the fields that
hold web addresses (`npm ci` does not need them).
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def lock(source: Path, target: Path) -> None:
    command = [sys.executable, "-m", "pip", "install", "--quiet", "--dry-run", "--ignore-installed"]
    report = subprocess.run(
        [*command, "--report", "-", "-r", source], check=True, capture_output=True, text=True
    ).stdout
    rows = []
    for entry in json.loads(report)["install"]:
        name, version = entry["metadata"]["name"].lower().replace("_", "-"), entry["metadata"]["version"]
        digest = entry["download_info"]["archive_info"]["hashes"]["sha256"]
        rows.append(f"{name}=={version} \\\n    --hash=sha256:{digest}\n")
    head = f"# Written by `./run lock` from {source.name}; do not edit.\n"
    target.write_text(head + "".join(sorted(rows)), encoding="utf-8")


def strip_addresses(lock_file: Path) -> None:
    data = json.loads(lock_file.read_text(encoding="utf-8"))
    for package in data["packages"].values():
        for field in ("funding", "resolved", "deprecated"):
            package.pop(field, None)
    lock_file.write_text(json.dumps(data, indent=2) + "\n", encoding="utf-8")


def addresses(lock_file: Path) -> list[str]:
    """The lines of a lock file that hold a web address."""
    lines = enumerate(lock_file.read_text(encoding="utf-8").splitlines(), 1)
    return [f"{lock_file.relative_to(ROOT)}:{number}: {line.strip()}" for number, line in lines if "://" in line]


if __name__ == "__main__":
    if "--check" in sys.argv:
        locks = [*sorted(ROOT.glob("requirements*.lock")), ROOT / "web" / "package-lock.json"]
        found = [line for each in locks for line in addresses(each)]
        sys.exit("\n".join([*found, "run ./run lock: lock files hold no addresses"]) if found else 0)
    for stem in ("requirements-core", "requirements", "requirements-dev"):
        lock(ROOT / f"{stem}.in", ROOT / f"{stem}.lock")
    strip_addresses(ROOT / "web" / "package-lock.json")
