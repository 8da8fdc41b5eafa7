"""Speeds, as ratios measured in one run: ``python -m bench``. Never part of the tests: machines differ."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))  # helpers that the tests have
