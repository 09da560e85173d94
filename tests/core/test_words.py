"""What an observer types about a file, and what is made of it."""

from __future__ import annotations

import pytest

from narrow_beacon.core.frames.words import WORDS, read_word


@pytest.mark.parametrize(
    ("name", "text", "value"),
    [
        ("kind", "dark", "dark"),
        ("filter", "  v ", "V"),
        ("exposure_s", "120", 120.0),
        ("temperature_c", "−10.5", -10.5),
        ("ra_deg", "22 41 02.4", 340.26),
        ("ra_deg", "340.26", 340.26),
        ("ra_deg", "22.684h", 340.26),
        ("dec_deg", "-00 30 00", -0.5),
        ("dec_deg", "−00 30 00", -0.5),
        ("moment", "middle", "middle"),
        ("time_utc", "2026-10-12 21:04:30", "2026-10-12T21:04:30"),
        ("time_utc", "2026-10-12T21:04:30.250", "2026-10-12T21:04:30.250000"),
        # A zone is not to be dropped: the night would be off by it.
        ("time_utc", "2026-10-12 23:04:30+02:00", "2026-10-12T21:04:30"),
        ("time_utc", "2026-10-13T00:30:00+05:30", "2026-10-12T19:00:00"),
        ("time_utc", "2026-10-12T21:04:30Z", "2026-10-12T21:04:30"),
        ("shift_s", "-2h", -7200.0),
        ("shift_s", "+1:30", 5400.0),
        ("shift_s", "−2.5h", -9000.0),
        ("shift_s", "−0:00:12.5", -12.5),
        ("shift_s", "3h15m", 11_700.0),
        ("shift_s", "12.5 s", 12.5),
        ("camera", "", None),
    ],
)
def test_a_word_is_read_as_it_is_meant(name: str, text: str, value: object) -> None:
    read = read_word(name, text)
    if isinstance(value, float):
        assert read == pytest.approx(value, abs=1e-9)
    else:
        assert read == value


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("kind", "sky", "none of"),
        ("exposure_s", "nan", "from 0 to 86400"),
        ("exposure_s", "two minutes", "give a number"),
        ("temperature_c", "-300", "from -120 to 60"),
        ("time_utc", "yesterday", "write 2026-10-12 21:04:30"),
        ("time_utc", "2026-10-12", "write 2026-10-12 21:04:30"),
        ("time_utc", "0026-10-12 21:04:30", "write 2026-10-12 21:04:30"),
        ("shift_s", "nan", "not that wrong"),
        ("shift_s", "1e9", "not that wrong"),
        ("shift_s", "an hour", "write seconds, or hours"),
        ("moment", "noon", "none of start, middle, end"),
        ("dec_deg", "95", "from -90° to 90°"),
        ("ra_deg", "nan", "not an angle"),
        ("ra_deg", "22 61 00", "below 60"),
    ],
)
def test_a_word_that_cannot_be_meant_is_refused_with_how_to_write_it(
    name: str, text: str, words: str
) -> None:
    with pytest.raises(ValueError, match=words):
        read_word(name, text)


def test_text_has_its_bounds() -> None:
    for name in ("camera", "telescope", "aside", "filter"):
        assert len(str(read_word(name, "x" * 5000))) < 1000, WORDS[name]
