"""Busy shares from ``/proc/stat``, one per logical processor."""

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import BusyTable
from upright_bolt.model.note import DiagnosticCode, Subject
from upright_bolt.model.quantity import SHARE
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 0


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the busy share of every processor that the table lists."""
    lines = probe.long_text(paths.STAT).splitlines()
    present = {line.split()[0][3:] for line in lines if line.startswith("cpu") and len(line.split()) >= 6}
    cpus = [cpu for cpu in machine.topology.cpus if str(cpu) in present]
    if not cpus:
        probe.note(Subject.BUSY_SHARE, DiagnosticCode.NO_PROCESSOR_TIMES, path=paths.STAT)
        return Found()
    title = "Share of time processor {} was active"
    sensors = {cpu: Sensor(f"busy.cpu{cpu}", SHARE, title.format(cpu), SensorKind.BUSY, cpu) for cpu in cpus}
    return Found(channels=[BusyTable(sensors, paths.STAT)])
