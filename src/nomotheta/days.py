"""A delivery's day, as people write it."""

from __future__ import annotations

import datetime
import re

_WORDS = {"today": 0, "yesterday": -1}


def day_of(text: str, today: datetime.date) -> datetime.date:
    """The day that is meant: `2026-12-31`, `today`, `yesterday`, or so many days ago: `-1`.

    Raises:
        ValueError: it is none of these.
    """
    word = text.strip().lower()
    try:
        if word in _WORDS or re.fullmatch(r"-\d{1,5}", word):
            return today + datetime.timedelta(days=_WORDS[word] if word in _WORDS else int(word))
        if re.fullmatch(r"\d{4}-\d\d-\d\d", word):
            return datetime.date.fromisoformat(word)
    except (ValueError, OverflowError):
        pass
    raise ValueError(f"'{text}' is not a day; write it as 2026-12-31, yesterday, or -1 for one day ago")
