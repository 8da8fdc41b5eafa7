"""The service's log: a line stays a line whatever a caller puts into it, and nobody fills it with refusals."""

import logging
import sys
from collections import OrderedDict

from upright_bolt.sanitize import one_line

LOG = logging.getLogger("upright-bolt")
LONGEST_LINE = 600
REFUSALS = 20
"""So many refused calls of one user are logged in ``REFUSALS_SPAN_S``."""
REFUSALS_SPAN_S = 600.0
MOST_USERS = 256


class OneLine(logging.Formatter):
    """Writes a record as one line; control characters in it are spelled out."""

    def format(self, record: logging.LogRecord) -> str:
        """Return the line; what failed without a sentence of its own is followed by its traceback, indented."""
        line = one_line(f"{record.levelname}: {record.getMessage()}")
        if len(line) > LONGEST_LINE:
            line = line[:LONGEST_LINE] + "…"
        if record.exc_info:
            trace = self.formatException(record.exc_info).splitlines()
            line += "".join(f"\n    {one_line(part)[:LONGEST_LINE]}" for part in trace[-40:])
        return line


def start() -> None:
    """Let the log go to standard error, which systemd takes into its journal."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(OneLine())
    logging.basicConfig(level=logging.INFO, handlers=[handler])


class RefusalLog:
    """Logs refused calls, of each user so many in a time, however many connections they make."""

    def __init__(self) -> None:
        self._users: OrderedDict[int | None, tuple[float, int]] = OrderedDict()

    def note(self, uid: int | None, now_s: float, line: str) -> None:
        """Log a refusal, unless there were enough of this user.

        Args:
            uid: the user; None if unknown.
            now_s: the present moment.
            line: what is logged.
        """
        since_s, count = self._users.pop(uid, (now_s, 0))
        if now_s - since_s >= REFUSALS_SPAN_S:
            since_s, count = now_s, 0
        self._users[uid] = (since_s, count + 1)
        if len(self._users) > MOST_USERS:
            self._users.popitem(last=False)
        if count < REFUSALS:
            LOG.info("%s", line)
        elif count == REFUSALS:
            LOG.warning("user %s is refused again and again; what else is refused for a while is not logged", uid)
