"""Moments as people say them: a date, a time, `yesterday`, `3 days`."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice

_SPAN = re.compile(r"(\d{1,5})\s*(minute|hour|day|week|month|year)s?(?:\s+ago)?")
_DAYS = {"today": 0, "yesterday": 1}
_UNITS = {"minute": 1 / 1440, "hour": 1 / 24, "day": 1.0, "week": 7.0, "month": 30.0, "year": 365.0}


def moment(text: str, now: str, option: str) -> str:
    """The moment that is meant, as RFC 3339 in UTC. `now` is the present one, `option` where it was said.

    >>> moment("3 days", "2026-04-10T08:00:00Z", "--since"), moment("2026-04-01", "2026-04-10T08:00:00Z", "--since")
    ('2026-04-07T08:00:00Z', '2026-04-01T00:00:00Z')

    Raises UsageFault for what is no moment.
    """
    said = text.strip().lower()
    present = datetime.fromisoformat(now)
    if said in _DAYS:
        day = (present - timedelta(days=_DAYS[said])).replace(hour=0, minute=0, second=0, microsecond=0)
        return _written(day)
    if found := _SPAN.fullmatch(said):
        try:
            return _written(present - timedelta(days=int(found[1]) * _UNITS[found[2]]))
        # Longer ago than there are dates, or than a number is read: from the beginning.
        except (OverflowError, ValueError):
            return "0001-01-01T00:00:00Z"
    try:
        meant = datetime.fromisoformat(text.strip())
    except ValueError:
        raise UsageFault(
            f"{option} {text!r} is no moment.",
            subject=text,
            next_step=advice(f'Say it as {option} 2026-04-01, {option} yesterday or {option} "3 days".'),
        ) from None
    # A time without a zone is in UTC, as all times that are shown.
    return _written(meant if meant.tzinfo else meant.replace(tzinfo=UTC))


def _written(meant: datetime) -> str:
    return meant.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
