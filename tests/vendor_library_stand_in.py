"""Stands in for NVIDIA's management library as its reference describes it: ranges, refusals by number, versions."""


class NVMLError(Exception):
    """An error of the library.

    Attributes:
        value: its number in the reference.
    """

    def __init__(self, value: int) -> None:
        super().__init__(value)
        self.value = value


INVALID_ARGUMENT, NOT_SUPPORTED, NO_PERMISSION, FUNCTION_NOT_FOUND, GPU_IS_LOST = 2, 3, 4, 13, 15


class VendorLibrary:
    """The module; chips are made as they are asked for by their place.

    Attributes:
        refuses: error numbers by the name of a function.
        as_root: whether setting is allowed.
        woken: how often it was initialised.
    """

    NVMLError = NVMLError

    def __init__(self) -> None:
        self.refuses: dict[str, int] = {}
        self.as_root = True
        self.woken = 0
        self.chips: dict[bytes, dict] = {}

    def _asked(self, function: str, *, sets: bool = False) -> None:
        if function in self.refuses:
            raise NVMLError(self.refuses[function])
        if sets and not self.as_root:
            raise NVMLError(NO_PERMISSION)

    def nvmlInit(self):
        self.woken += 1

    def nvmlDeviceGetHandleByPciBusId(self, place):
        return self.chips.setdefault(
            place, {"limit": 80000, "clock": 0, "memory": 0, "heat": 87, "locked": None, "stock": 80000}
        )

    # what is set

    def nvmlDeviceGetPowerManagementLimit(self, chip):
        self._asked("nvmlDeviceGetPowerManagementLimit")
        return chip["limit"]

    def nvmlDeviceGetPowerManagementLimitConstraints(self, _chip):
        self._asked("nvmlDeviceGetPowerManagementLimitConstraints")
        return [5000, 115000]

    def nvmlDeviceSetPowerManagementLimit(self, chip, limit):
        self._asked("nvmlDeviceSetPowerManagementLimit", sets=True)
        self._within(limit, 5000, 115000)
        chip["limit"] = limit

    @staticmethod
    def _within(value, low, high):
        if not low <= value <= high:
            raise NVMLError(INVALID_ARGUMENT)

    def nvmlDeviceGetGpcClkVfOffset(self, chip):
        self._asked("nvmlDeviceGetGpcClkVfOffset")
        return chip["clock"]

    def nvmlDeviceGetGpcClkMinMaxVfOffset(self, _chip):
        self._asked("nvmlDeviceGetGpcClkMinMaxVfOffset")
        return (-1000, 1000)

    def nvmlDeviceSetGpcClkVfOffset(self, chip, offset):
        self._asked("nvmlDeviceSetGpcClkVfOffset", sets=True)
        self._within(offset, -1000, 1000)
        chip["clock"] = offset

    def nvmlDeviceGetMemClkVfOffset(self, chip):
        self._asked("nvmlDeviceGetMemClkVfOffset")
        return chip["memory"]

    def nvmlDeviceGetMemClkMinMaxVfOffset(self, _chip):
        self._asked("nvmlDeviceGetMemClkMinMaxVfOffset")
        return (-2000, 3000)

    def nvmlDeviceSetMemClkVfOffset(self, chip, offset):
        self._asked("nvmlDeviceSetMemClkVfOffset", sets=True)
        self._within(offset, -2000, 3000)
        chip["memory"] = offset

    def nvmlDeviceGetTemperatureThreshold(self, chip, kind):
        self._asked("nvmlDeviceGetTemperatureThreshold")
        return {4: 65, 5: chip["heat"], 6: 90}[kind]

    def nvmlDeviceSetTemperatureThreshold(self, chip, kind, celsius):
        self._asked("nvmlDeviceSetTemperatureThreshold", sets=True)
        if kind != 5:
            raise NVMLError(INVALID_ARGUMENT)
        self._within(celsius, 65, 90)
        chip["heat"] = celsius

    def nvmlDeviceGetSupportedMemoryClocks(self, _chip):
        self._asked("nvmlDeviceGetSupportedMemoryClocks")
        return [6001, 810, 405]

    def nvmlDeviceGetSupportedGraphicsClocks(self, _chip, memory):
        self._within(memory, 405, 6001)
        return [2100, 1800, 1500, 210]

    def nvmlDeviceSetGpuLockedClocks(self, chip, low, high):
        self._asked("nvmlDeviceSetGpuLockedClocks", sets=True)
        if low > high:
            raise NVMLError(INVALID_ARGUMENT)
        chip["locked"] = (low, high)

    def nvmlDeviceResetGpuLockedClocks(self, chip):
        self._asked("nvmlDeviceResetGpuLockedClocks", sets=True)
        chip["locked"] = None

    # what is read

    def nvmlDeviceGetClockInfo(self, _chip, _kind):
        return 1815

    def nvmlDeviceGetPowerUsage(self, _chip):
        return 61500

    def nvmlDeviceGetEnforcedPowerLimit(self, chip):
        return chip["limit"]

    def nvmlDeviceGetTemperature(self, _chip, _kind):
        return 66

    def nvmlDeviceGetUtilizationRates(self, _chip):
        return type("Rates", (), {"gpu": 97})

    def nvmlDeviceGetCurrentClocksThrottleReasons(self, _chip):
        return 4
