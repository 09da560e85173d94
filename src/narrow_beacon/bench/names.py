"""The benchmarks by name, and what each measures."""

from __future__ import annotations

MEASURED = {
    "speed": "the steps of one exposure over what no program can beat",
    "sky": "an atlas of millions of stars: made, and asked for exposures anywhere",
    "stars": "how many of the faint stars are found, how many false ones",
    "night": "a night on two processes over one",
    "masters": "a master of 50 frames over reading them once",
    "start": "from the command to the result of one small exposure",
    "growth": "an exposure's cost in nights of up to 5,000",
    "evenings": "the next night of a campaign after few and after many",
    "pulls": "whether uncertainties are what errors scatter by",
    "crowd": "stars close together: what is left of one in the other",
    "steady": "whether a star that varies is ever trusted",
    "fields": "a thousand fields placed, from good hints to none",
    "match": "exposures matched to one another without a catalogue",
    "plain": "ten plain nights against their truth",
    "demo": "the demo nights: every planted trouble in its state",
    "transform": "magnitudes on the standard scale in two filters",
    "rough": "a hundred rough nights: does a wrong number go out as good?",
    "cameras": "what is left of each kind of camera's own pattern",
    "colours": "the channels of colour sensors",
    "combine": "combined exposures against the ideal",
    "vet": "troubles found and named, good exposures left alone",
    "series": "periods, false alarms, times of minimum, variable stars",
    "page": "the page in Chromium: steps, stretch, roles, radii",
    "large": "a hundred nights of five hundred exposures, screen by screen",
    "sorting": "2,000 files sorted",
    "soak": "the application killed and starved for ten minutes",
    "watch": "a night that comes in file by file",
}
LONG = ("growth", "large", "sky", "sorting", "soak", "watch")
"""Only by name."""


def listed() -> str:
    """A line for each."""
    width = max(map(len, MEASURED))
    return "\n".join(
        f"  {name:<{width}}  {words}{' (only by name)' if name in LONG else ''}"
        for name, words in MEASURED.items()
    )
