"""A terminal of its own for a program that asks for one: what is typed, and what is then written."""

import os
import pty
import select
import subprocess
import time

import waiting


class Terminal:
    """A program in a terminal; ended with the block.

    Args:
        words: the program.
        folder: where it starts, and its home.
    """

    def __init__(self, words, folder):
        self._own, theirs = pty.openpty()
        environment = {"PATH": os.environ["PATH"], "TERM": "dumb", "HOME": str(folder), "LANG": "C.UTF-8"}
        self._program = subprocess.Popen(
            words, stdin=theirs, stdout=theirs, stderr=theirs, cwd=folder, env=environment, start_new_session=True
        )
        os.close(theirs)
        self._unread = ""

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self._program.kill()
        self._program.wait()
        os.close(self._own)

    def type(self, text):
        os.write(self._own, text.encode())

    def wait_for(self, text):
        """Return once ``text`` has been written."""

        def written():
            if select.select([self._own], [], [], 0.0)[0]:
                self._unread += os.read(self._own, 65536).decode(errors="replace")
            return text in self._unread

        waiting.until(written, pause=lambda: time.sleep(0.01))
