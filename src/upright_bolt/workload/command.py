"""The workload ``command`` on this computer: a command of the user's own, run some times, timed or scored."""

import base64
import os
import shutil
import subprocess
import time
from statistics import fmean, stdev

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.work import Options, number_in
from upright_bolt.workload.load import Load
from upright_bolt.workload.subprocess_start import python_module

END_WITHIN_S = 3.0
LAST_WORDS = 160


class CommandLoad(Load):
    """Runs ``options.command`` ``options.times`` times; a unit is one time.

    Its score is the mean wall time in s, or the mean of the numbers found in its output.

    Args:
        options: command, pattern, times.

    Raises:
        BadInput: there is no such program.
    """

    def __init__(self, options: Options) -> None:
        if shutil.which(options.command[0]) is None:
            raise BadInput(f"command: there is no program “{options.command[0]}” that could be run.")
        self._options = options
        self._process: subprocess.Popen[bytes] | None = None
        self._rest = b""
        self._ready = self._gone = False
        self._start_s = 0.0
        self._spans: list[tuple[float, float]] = []
        self._numbers: list[float] = []
        self._failure = ""

    def prepare(self) -> None:
        """Start the process that will run the command. Raises BoltError if it cannot be started."""
        # A runner of its own process group stands between: it ends whatever the command has started.
        words = python_module("upright_bolt.workload.runner", self._options.times, *self._options.command)
        try:
            self._process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        except OSError as fault:
            raise BoltError(f"The command's runner could not be started: {fault.strerror}.") from fault
        if self._process.stdout is not None:
            os.set_blocking(self._process.stdout.fileno(), False)

    def ready(self) -> bool:
        """Tell whether the runner waits for the word. Raises BoltError if it never will be."""
        self._read()
        if self._gone:
            raise BoltError("The command's runner ended before the command was started.")
        return self._ready

    def start(self) -> float:
        """Let the command begin."""
        self._start_s = time.monotonic()
        if self._process is not None and self._process.stdin is not None:
            self._process.stdin.write(b"go\n")
            self._process.stdin.flush()
        return self._start_s

    def _read(self) -> None:
        if self._process is None or self._process.stdout is None or self._gone:
            return
        while True:
            try:
                data = os.read(self._process.stdout.fileno(), 1 << 16)
            except BlockingIOError:
                return
            if not data:
                self._gone = True
                return
            lines = (self._rest + data).split(b"\n")
            self._rest = lines.pop()
            for line in lines:
                self._take(line.decode("ascii", "replace").split())

    def _take(self, words: list[str]) -> None:
        if words[:1] == ["ready"]:
            self._ready = True
        elif words[:1] == ["r"] and len(words) == 5 and not self._failure:
            begun, ended, code = float(words[1]), float(words[2]), int(words[3])
            said = "" if words[4] == "-" else base64.b64decode(words[4]).decode(errors="replace")
            self._judge(begun, ended, code, said)

    def _judge(self, begun: float, ended: float, code: int, said: str) -> None:
        last = next((line.strip() for line in reversed(said.splitlines()) if line.strip()), "it said nothing")
        last = last[:LAST_WORDS]
        pattern = self._options.pattern
        if code:
            how = f"was ended by signal {-code}" if code < 0 else f"ended with code {code}"
            self._failure = f"The command {how}: {last}"
        elif pattern and (number := number_in(said, pattern)) is None:
            self._failure = f"“{pattern}” finds no number in what the command said. Its last line: {last}"
        else:
            self._spans.append((begun, ended))
            self._numbers.append(number if pattern and number is not None else ended - begun)

    def units_until(self, time_s: float) -> float:
        """Return how often it has been run to its end, the time under way not counted."""
        self._read()
        return float(sum(ended <= time_s for _, ended in self._spans))

    def complete_until(self) -> float:
        """Return the end of the last time."""
        self._read()
        return self._spans[-1][1] if self._spans else self._start_s

    def failure(self) -> str:
        """Return how the command failed, in a sentence."""
        self._read()
        return self._failure

    def done(self) -> bool:
        """Tell whether it has been run as often as asked."""
        self._read()
        return len(self._spans) >= self._options.times

    def own_score(self) -> float | None:
        """Return the mean over the times so far."""
        self._read()
        return fmean(self._numbers) if self._numbers else None

    def figures(self, duration_s: float) -> dict[str, float]:  # noqa: ARG002 - a time counts when it is over
        """Return how often it ran, and the spread of its results in %."""
        numbers = self._numbers
        found = {"times_run": float(len(numbers))}
        if len(numbers) > 1 and fmean(numbers):
            found["times_spread"] = 100.0 * stdev(numbers) / abs(fmean(numbers))
        return found

    def alive(self) -> bool:
        """Tell whether the runner is there."""
        self._read()
        return not self._gone

    def stop(self) -> None:
        """End the command and everything it has started."""
        process = self._process
        if process is None:
            return
        if process.poll() is None:
            process.terminate()
        try:
            process.wait(timeout=END_WITHIN_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        self._gone = True
        for pipe in (process.stdin, process.stdout):
            if pipe is not None and not pipe.closed:
                try:
                    pipe.close()
                except BrokenPipeError:
                    continue
