"""Kernel arguments that pin what a person may want to set (``Documentation/admin-guide/kernel-parameters``)."""

from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.note import DiagnosticCode

RANK = 130
PINS = frozenset({
    "intel_pstate=disable", "intel_pstate=passive", "intel_pstate=no_hwp", "amd_pstate=disable", "amd_pstate=passive",
    "cpufreq.off=1", "msr.allow_writes=off", "lockdown=integrity", "lockdown=confidentiality", "idle=poll", "nosmt",
})  # fmt: skip
LIMITS = ("processor.max_cstate=", "intel_idle.max_cstate=", "maxcpus=")


def concerns(word: str) -> bool:
    """Tell whether an argument pins something that a person may want to set."""
    return word in PINS or word.startswith(LIMITS)


def find(probe: Probe, machine: Surroundings) -> Found:  # noqa: ARG001 - the form of every interface
    """Note every argument of this boot that pins something."""
    for word in probe.long_text(paths.COMMAND_LINE).split():
        if concerns(word):
            probe.note(f"kernel argument {word}", DiagnosticCode.KERNEL_ARGUMENT, argument=word)
    return Found()
