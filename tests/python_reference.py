"""docs/python.md from the docstrings of the functions for notebooks: ``--write`` writes it."""

from __future__ import annotations

import inspect
import re
import sys
from pathlib import Path
from typing import Any

import narrow_beacon
from narrow_beacon.reduce.reduction import reduce_night

PAGE = Path(__file__).parents[1] / "docs" / "python.md"
_HEAD = """# In Python

The steps of a reduction as functions on arrays and tables, for notebooks and scripts. A plan gives
the same numbers here, on the command line and in the page, bit for bit. A worked night stands in
[a notebook](notebooks/a-night.ipynb). This page is made from the docstrings by
`.venv/bin/python tests/python_reference.py --write`.

```python
import narrow_beacon as nb

night = nb.reduce("plan.toml")
night.light_curve  # an Astropy table
```
"""
_ORDER = ("reduce", "catalogue", "solve", "measure", "curve", "period", "extrema")
_RESULTS = ("Reduction", "Solved", "Measures")


def reference() -> str:
    """The page's text."""
    parts = [_HEAD]
    for name in _ORDER:
        function = reduce_night if name == "reduce" else getattr(narrow_beacon, name)
        parts.append(f"## {name}\n\n```python\n{_call(name, function)}\n```\n\n{_doc(function)}")
    for name in _RESULTS:
        made = getattr(narrow_beacon, name)
        rows = [f"| `{key}` | {words} |" for key, words in _members(made)]
        table = "\n".join(["| | |", "| --- | --- |", *rows])
        parts.append(f"## {name}\n\n{_doc(made)}\n\n{table}")
    return "\n\n".join(part.rstrip() for part in parts) + "\n"


def _call(name: str, function: Any) -> str:
    signature = inspect.signature(function)
    words, named = [], False
    for one in signature.parameters.values():
        if one.kind is one.KEYWORD_ONLY and not named:
            words.append("*")
            named = True
        plain = one.replace(annotation=inspect.Parameter.empty)
        default = one.default
        if isinstance(default, tuple) and len(default) > 4:
            plain = plain.replace(default=inspect.Parameter.empty)
            words.append(f"{plain.name}=({default[0]:g}, …, {default[-1]:g})")
        else:
            words.append(str(plain))
    line = f"nb.{name}({', '.join(words)})"
    return line if len(line) < 96 else f"nb.{name}(\n    " + ", ".join(words) + "\n)"


def _doc(thing: Any) -> str:
    """A docstring as Markdown: its sections as lists."""
    text = inspect.getdoc(thing) or ""
    text = re.sub(r"``([^`]+)``", r"`\1`", text)
    lines, out = text.split("\n"), []
    inside, at = "", 0
    while at < len(lines):
        line = lines[at]
        if at + 1 < len(lines) and re.fullmatch(r"-+", lines[at + 1]) and line:
            inside = line
            out += ["", f"**{line}**", ""]
            at += 2
            continue
        if inside and line and not line.startswith(" "):
            words = []
            while at + 1 < len(lines) and lines[at + 1].startswith("    "):
                at += 1
                words.append(lines[at].strip())
            out.append(f"- `{line}`: {' '.join(words)}")
        elif not inside:
            out.append(line)
        at += 1
    return re.sub(r"\n{3,}", "\n\n", "\n".join(out)).strip()


def _members(made: Any) -> list[tuple[str, str]]:
    """Fields and properties of a result, with what they are."""
    found = [(name, "") for name in getattr(made, "__dataclass_fields__", {})]
    for name, value in vars(made).items():
        got = getattr(value, "fget", None) or getattr(value, "func", None)
        if got is not None and not name.startswith("_"):
            found.append((name, " ".join((inspect.getdoc(got) or "").split())))
    return found


if __name__ == "__main__":
    if "--write" in sys.argv:
        PAGE.write_text(reference(), encoding="utf-8")
    elif PAGE.read_text(encoding="utf-8") != reference():
        sys.exit(f"{PAGE.name} is not what the docstrings say: run it with --write")
