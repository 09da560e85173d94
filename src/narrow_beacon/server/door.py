"""What somebody sees who has not come in: how to, and a field for the password if there is one."""

from __future__ import annotations

from html import escape

LOOK_COOKIE = "narrow_beacon_look"
"""The look that the page wears, so that nobody's eyes are blinded at the door."""
_COLOURS = {
    "night": ("#13120f", "#ece6d8", "#f4b740"),
    "day": ("#f6f0e1", "#1f2a38", "#8a5200"),
    "red": ("#0a0000", "#f06a58", "#ff8468"),
}
_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Narrow Beacon</title>
<style>body {{background: {ground}; color: {ink}; font: 16px sans-serif; margin: 20vh 20vw}}
h1 {{font-size: 20px}} .said {{border-left: 2px solid {beam}; padding-left: 8px}}
input, button {{font: inherit; color: inherit; background: {ground}; border: 1px solid {ink};
border-radius: 3px; padding: 4px 8px; margin: 0 8px}}</style>
<h1>This address needs its one-time key</h1>
<p>Narrow Beacon only answers to who started it. Open the address that
<code>./beacon start</code> printed; press Enter there for a new one.</p>{said}{form}"""
_FORM = """
<form method="post" action="/api/session"><p><label>Or give the password of this server:
<input name="password" type="password" autocomplete="current-password" required></label>
<button>Come in</button></p></form>"""


def door_page(look: str, *, password: bool, said: str = "") -> str:
    """The page in a look; ``said`` is why somebody was not let in, in words."""
    ground, ink, beam = _COLOURS.get(look, _COLOURS["night"])
    words = f'\n<p class="said" role="alert">{escape(said)}</p>' if said else ""
    return _PAGE.format(
        ground=ground, ink=ink, beam=beam, said=words, form=_FORM if password else ""
    )
