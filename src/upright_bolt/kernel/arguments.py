"""Kernel arguments that pin what a person may want to set: named, with what they do."""

from upright_bolt.kernel import paths
from upright_bolt.kernel.probe import Probe

PINS = {
    "intel_pstate=disable": "it keeps the intel_pstate driver away: no energy preference, another turbo switch",
    "intel_pstate=passive": "intel_pstate is passive: the kernel's governors choose clocks, without preference",
    "intel_pstate=no_hwp": "it forbids the processor to choose clocks itself: there is no energy preference",
    "amd_pstate=disable": "it keeps the amd-pstate driver away: fewer clocks, no energy preference",
    "amd_pstate=passive": "amd-pstate is passive: the kernel's governors choose clocks, without preference",
    "cpufreq.off=1": "it switches clock control off altogether",
    "msr.allow_writes=off": "registers cannot be written, so voltage offsets cannot be set",
    "lockdown=integrity": "kernel lockdown forbids writing registers, so voltage offsets cannot be set",
    "lockdown=confidentiality": "kernel lockdown forbids reading and writing registers",
    "idle=poll": "processors never rest: idle watts are as high as they can be",
    "nosmt": "every second thread of a core is switched off",
}
LIMITS = ("processor.max_cstate=", "intel_idle.max_cstate=", "maxcpus=")


def find(probe: Probe) -> None:
    """Note every argument of this boot that pins something."""
    for word in probe.long_text(paths.COMMAND_LINE).split():
        if word in PINS:
            probe.note(f"kernel argument {word}", PINS[word])
        elif word.startswith(LIMITS):
            probe.note(f"kernel argument {word}", "it limits what processors may do, whatever is set here")
