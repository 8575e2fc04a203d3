"""How much of a day's sound dose listening takes, at a level that the listener states. An estimate, no measurement."""

from __future__ import annotations

REFERENCE_DBA, HOURS, EXCHANGE_DB = (
    85.0,
    8.0,
    3.0,
)  # NIOSH Publication 98-126: 85 dBA for eight hours, half the time for every 3 dB more
LOWEST_DBA, HIGHEST_DBA = 40.0, 120.0


def dose_percent(minutes: float, level_dba: float) -> float:
    """Share of a day's dose in percent. `minutes` of listening from 0 on; `level_dba` is held within 40 to 120."""
    level = min(HIGHEST_DBA, max(LOWEST_DBA, level_dba))
    allowed_h = HOURS / 2.0 ** ((level - REFERENCE_DBA) / EXCHANGE_DB)
    return 100.0 * max(0.0, minutes) / 60.0 / allowed_h


def minutes_left(minutes: float, level_dba: float) -> float:
    """Minutes until a day's dose is reached at this level; 0 where it has been."""
    now = dose_percent(minutes, level_dba)
    rate = dose_percent(1.0, level_dba)
    return max(0.0, (100.0 - now) / rate)
