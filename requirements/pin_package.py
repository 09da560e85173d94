"""Write what run.lock holds into pyproject.toml, so that the wheel asks for just those versions."""

import re
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BEGIN, END = "dependencies = [\n", "]  # from requirements/run.lock\n"


def pinned(lock: str) -> list[str]:
    """The requirements of a lock file, without their hashes."""
    lines = re.findall(r"^([\w.\[\],-]+==[^\\\n]+?)\s*\\?$", lock, flags=re.MULTILINE)
    return [" ".join(line.split()) for line in lines]


def with_pins(project: str, lock: str) -> str:
    """pyproject.toml with the dependencies of a lock file."""
    head, rest = project.split(BEGIN, 1)
    tail = rest.split(END, 1)[1]
    quoted = [f'  "{line}",\n' for line in pinned(lock)]
    return head + BEGIN + "".join(quoted) + END + tail


if __name__ == "__main__":
    path = ROOT / "pyproject.toml"
    lock = (ROOT / "requirements" / "run.lock").read_text()
    path.write_text(with_pins(path.read_text(), lock))
