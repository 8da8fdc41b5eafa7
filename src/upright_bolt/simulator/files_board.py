"""A twin's files about board, processor and sensors: identity, topology, times, heat, fan, power source."""

from collections.abc import Callable
from functools import partial

from upright_bolt.kernel import paths
from upright_bolt.simulator.chip import KernelInterfaces
from upright_bolt.simulator.physics import Physics

Readers = dict[str, Callable[[], str]]
Writers = dict[str, Callable[[str], None]]
TICKS_PER_S = 100  # USER_HZ, the unit of /proc/stat
KERNEL = "6.1.0-twin"
FIRMWARE = "1.04"


def files_of(physics: Physics) -> tuple[Readers, Writers]:
    """Return readers and writers; of these files only the ceiling's offset can be written."""
    readers: Readers = {}
    _identity(physics, readers)
    _heat(physics, readers)
    _supply(physics, readers)
    _processes(physics, readers)
    writers: Writers = {}
    if physics.spec.interfaces is KernelInterfaces.POWERCAP and not physics.spec.locked:
        offset = f"{paths.PCI_DEVICES}/0000:00:04.0/tcc_offset_degree_celsius"
        readers[offset] = lambda: str(physics.state.ceiling_offset_c)
        writers[offset] = partial(_set_ceiling, physics)
    return readers, writers


def _set_ceiling(physics: Physics, text: str) -> None:
    if not 0 <= int(text) <= 63:
        raise ValueError(text)
    physics.state.ceiling_offset_c = int(text)


def _fixed(readers: Readers, values: dict[str, str]) -> None:
    for path, text in values.items():
        readers[path] = partial(str, text)


def _identity(physics: Physics, readers: Readers) -> None:
    spec, state = physics.spec, physics.state
    threads = spec.chip.cores * 2
    everyone = f"0-{threads - 1}"
    _fixed(
        readers,
        {
            paths.VERSION: f"Linux version {KERNEL} (twin) #1 SMP",
            paths.CPUINFO: "\n".join(_cpuinfo(physics, cpu) for cpu in range(threads)),
            f"{paths.CPU}/possible": everyone,
            f"{paths.CPU}/present": everyone,
            f"{paths.DMI}/sys_vendor": spec.maker,
            f"{paths.DMI}/product_name": spec.name,
            f"{paths.DMI}/board_vendor": spec.maker,
            f"{paths.DMI}/board_name": f"{spec.name} board",
            f"{paths.DMI}/bios_version": FIRMWARE,
        },
    )
    readers[paths.CPU_ONLINE] = lambda: (
        ",".join(str(cpu) for cpu in range(threads) if cpu not in state.offline) if state.offline else everyone
    )
    readers[paths.BOOT_ID] = lambda: state.boot_id
    readers[paths.STAT] = lambda: _stat(physics)
    for cpu in range(threads):
        core = cpu // 2
        siblings = f"{2 * core}-{2 * core + 1}"
        _fixed(
            readers,
            {
                paths.topology(cpu, "core_id"): str(core),
                paths.topology(cpu, "physical_package_id"): "0",
                paths.topology(cpu, "thread_siblings_list"): siblings,
                paths.topology(cpu, "core_cpus_list"): siblings,
            },
        )
        # Only processors whose limits stand in powercap count their throttling in such files.
        for scope in ("core", "package") if spec.interfaces is KernelInterfaces.POWERCAP else ():
            readers[paths.throttle(cpu, f"{scope}_throttle_count")] = lambda: str(state.throttle_events)
            readers[paths.throttle(cpu, f"{scope}_throttle_total_time_ms")] = lambda: str(int(state.throttle_s * 1000))


def _cpuinfo(physics: Physics, cpu: int) -> str:
    chip = physics.spec.chip
    return (
        f"processor\t: {cpu}\nvendor_id\t: {chip.vendor}\ncpu family\t: 6\nmodel\t\t: 1\n"
        f"model name\t: {chip.name}\nstepping\t: 1\nmicrocode\t: 0x1\nphysical id\t: 0\n"
        f"core id\t\t: {cpu // 2}\ncpu cores\t: {chip.cores}\nflags\t\t: fpu msr sse2 avx2 hwp hwp_epp\n"
    )


def _stat(physics: Physics) -> str:
    state = physics.state
    rows = []
    total_busy = total_idle = 0
    for cpu, (busy_s, idle_s) in enumerate(zip(state.busy_s, state.idle_s, strict=True)):
        busy, idle = int(busy_s * TICKS_PER_S), int(idle_s * TICKS_PER_S)
        total_busy += busy
        total_idle += idle
        rows.append(f"cpu{cpu} {busy} 0 0 {idle} 0 0 0 0 0 0")
    first = f"cpu  {total_busy} 0 0 {total_idle} 0 0 0 0 0 0"
    # A timer that ticks 240 times a second, and more while cores work, as an ordinary desktop shows.
    interrupts = int(state.time_s * 240 + sum(state.busy_s) * 900)
    return "\n".join([first, *rows, f"intr {interrupts}", "ctxt 0", "btime 0"])


DESKTOP = (("wheelhouse-desk", 0.045), ("tide-table", 0.02), ("chart-sync", 0.008))
"""Programs that a twin's desktop runs, each with its share of one processor."""


def _processes(physics: Physics, readers: Readers) -> None:
    for number, (name, share) in enumerate(DESKTOP, start=801):
        readers[paths.process_stat(number)] = partial(_process, physics, number, name, share)


def _process(physics: Physics, number: int, name: str, share: float) -> str:
    ticks = int(physics.state.time_s * share * TICKS_PER_S)
    return f"{number} ({name}) S 1 {number} {number} 0 -1 0 0 0 0 0 {ticks} 0 0 0 20 0 1 0 0 0 0"


def _heat(physics: Physics, readers: Readers) -> None:
    chip = physics.spec.chip
    board, sensor, fan = (f"{paths.HWMON}/hwmon{n}" for n in (0, 3, 4))
    ceiling = str(int(chip.ceiling_c * 1000))
    if physics.spec.cooling.fan_high_rpm:
        _fixed(readers, {f"{fan}/name": "quayboard"})
        readers[f"{fan}/fan1_input"] = lambda: f"{physics.state.rpm:.0f}"
    if physics.spec.interfaces is KernelInterfaces.ATTRIBUTES:
        _fixed(readers, {f"{sensor}/name": "k10temp", f"{sensor}/temp1_label": "Tctl"})
        # k10temp tells eighths of a degree, coretemp whole ones.
        readers[f"{sensor}/temp1_input"] = lambda: f"{round(physics.hottest_c() * 8) * 125}"
        return
    _fixed(readers, {f"{board}/name": "acpitz", f"{sensor}/name": "coretemp"})
    readers[f"{board}/temp1_input"] = lambda: f"{round(physics.state.case_c) * 1000}"
    readers[f"{sensor}/temp1_input"] = lambda: f"{round(physics.hottest_c()) * 1000}"
    _fixed(readers, {f"{sensor}/temp1_label": "Package id 0", f"{sensor}/temp1_crit": ceiling})
    for core in range(chip.cores):
        number = core + 2
        readers[f"{sensor}/temp{number}_input"] = partial(_core_millidegrees, physics, core)
        _fixed(readers, {f"{sensor}/temp{number}_label": f"Core {core}", f"{sensor}/temp{number}_crit": ceiling})
    zone = f"{paths.THERMAL}/thermal_zone0"
    _fixed(readers, {f"{zone}/type": "x86_pkg_temp"})
    readers[f"{zone}/temp"] = readers[f"{sensor}/temp1_input"]


def _core_millidegrees(physics: Physics, core: int) -> str:
    return f"{round(physics.core_c(core)) * 1000}"


def _supply(physics: Physics, readers: Readers) -> None:
    state, spec = physics.state, physics.spec
    if not spec.battery_wh:
        return
    charger, battery, mouse = (f"{paths.SUPPLY}/{name}" for name in ("AC", "BAT0", "hid-mouse-battery"))
    _fixed(
        readers,
        {
            f"{charger}/type": "Mains",
            f"{battery}/type": "Battery",
            f"{battery}/energy_full": str(int(spec.battery_wh * 1e6)),
            f"{mouse}/type": "Battery",
            # A mouse's battery, which is not the computer's and has to be left out.
            f"{mouse}/scope": "Device",
            f"{mouse}/capacity": "61",
        },
    )
    readers[f"{paths.LID}/LID0/state"] = lambda: f"state:      {'closed' if state.lid_closed else 'open'}"
    readers[f"{charger}/online"] = lambda: "1" if state.charger else "0"
    readers[f"{battery}/capacity"] = lambda: str(int(state.battery_j / (spec.battery_wh * 36.0)))
    readers[f"{battery}/energy_now"] = lambda: str(int(state.battery_j / 3600.0 * 1e6))
    readers[f"{battery}/status"] = lambda: _battery_status(physics)
    readers[f"{battery}/power_now"] = lambda: str(int(_battery_watts(physics) * 1e6))


def _battery_status(physics: Physics) -> str:
    if not physics.state.charger:
        return "Discharging"
    full = physics.state.battery_j >= physics.spec.battery_wh * 3600.0 - 1.0
    return "Full" if full else "Charging"


def _battery_watts(physics: Physics) -> float:
    # Linux tells drain and charge alike as a positive number; the status says which.
    if not physics.state.charger:
        return physics.state.package_w + physics.spec.rest_w
    return 0.0 if _battery_status(physics) == "Full" else 30.0
