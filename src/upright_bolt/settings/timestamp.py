"""The date and time that entries of journals, logs and runs bear."""

from datetime import datetime


def now_stamp() -> str:
    """Return the present date and time with zone, to the second."""
    return datetime.now().astimezone().isoformat(timespec="seconds")
