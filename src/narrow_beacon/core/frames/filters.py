"""One name for a filter, however a capture program spells it."""

from __future__ import annotations

import re

_SYSTEMS = {"johnson", "cousins", "bessell", "bessel", "kron", "jc", "sloan", "sdss", "filter"}
_OF_UPPER = {"johnson", "cousins", "bessell", "bessel", "kron", "jc"}
_SAME = {
    "clear": "Clear", "clr": "Clear", "c": "Clear", "none": "Clear", "open": "Clear",
    "no": "Clear", "empty": "Clear",
    "l": "L", "lum": "L", "luminance": "L",
    "red": "red", "green": "green", "blue": "blue", "tg": "TG", "tb": "TB", "tr": "TR",
    "ha": "Ha", "halpha": "Ha",
}  # fmt: skip


_MOST_NAME = 40


def filter_name(text: str) -> str:
    """The usual name of a filter: "v", "V", "Johnson V", "V_2" and "Filter V" are all "V".

    Small u, g, r, i and z stand for Sloan's bands, capital ones for Johnson's and Cousins's; v and
    b are Johnson's. What is not known keeps its spelling, without blanks at its ends.
    """
    plain = text.strip()[:_MOST_NAME].strip()
    words = [word for word in re.split(r"[\s_\-./]+", plain.replace("'", " ")) if word]
    systems = {word.lower() for word in words} & _SYSTEMS
    rest = [word for word in words if word.lower() not in _SYSTEMS and not word.isdigit()]
    if len(rest) != 1:
        return _SAME.get("".join(words).lower(), plain)
    word = rest[0]
    if len(word) == 1 and word.lower() in "ubvrigz":
        if systems & _OF_UPPER or word.lower() in "bv":
            return word.upper()
        return word.lower() if systems & {"sloan", "sdss"} else word
    if len(word) == 2 and word[0].lower() in "ugriz" and word[1] == "p":  # g', written gp
        return word[0].lower()
    if len(word) == 2 and word[0] in "UBVRI" and word[1].lower() in "cj":  # Rc, Vj
        return word[0]
    return _SAME.get(word.lower(), plain if not systems else word)
