"""Upright Bolt: tune a processor from Linux and prove every change by measurement."""

__version__ = "0.1.0"
