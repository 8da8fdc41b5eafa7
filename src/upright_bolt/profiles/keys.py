"""Control values in a profile's file: keys carry the unit (``sustained_w = 25.0``), lists and tables are arrays."""

from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import CATALOGUE, PART_MARK, declaration_of
from upright_bolt.model.control import NONE, Value, parts_of
from upright_bolt.model.declaration import Declaration, Kind
from upright_bolt.model.settings import settings_from_data

UNITS = {"°C": "c", "%": "percent"}


def unit_of(declared: Declaration) -> str:
    """Return the unit of a control as it ends its key; empty for words and plain numbers."""
    unit = declared.quantity.unit
    return UNITS.get(unit, unit.lower())


def key_of(name: str) -> str:
    """Return the key of a control: ``core_offset_mv``, ``gpu1.power_limit_w``."""
    part, mark, own = name.rpartition(PART_MARK)
    unit = unit_of(declaration_of(name))
    return f"{part}{mark}{own.replace('-', '_')}{f'_{unit}' if unit else ''}"


def name_of(key: str) -> str:
    """Return the control of a key.

    Raises:
        BadInput: there is none; the sentence names the key that was meant, if one is near.
    """
    part, mark, own = key.rpartition(PART_MARK)
    keys = {key_of(name if not d.of_part else f"x{PART_MARK}{name}").rpartition(PART_MARK)[2]: name
            for name, d in CATALOGUE.items()}  # fmt: skip
    found = keys.get(own)
    if found is not None and CATALOGUE[found].of_part == bool(part):
        return f"{part}{mark}{found}"
    near = next((known for known in keys if known.startswith(own.partition("_")[0])), "")
    raise BadInput(f"{key[:64]} is no setting." + (f" Did you mean {near}?" if near else ""))


def plain_of(name: str, value: Value) -> object:
    """Return a value as it stands in a file."""
    kind = declaration_of(name).kind
    if kind is Kind.LIST:
        return parts_of(str(value))
    if kind is Kind.TABLE:
        return [float(part) for part in parts_of(str(value))]
    return value


def value_of(name: str, plain: object) -> Value:
    """Return the value that stands in a file. Raises BadInput."""
    if isinstance(plain, list):
        if declaration_of(name).kind not in (Kind.LIST, Kind.TABLE):
            raise BadInput("a list was given where one value is meant.")
        words = [f"{part:g}" if isinstance(part, float | int) else str(part) for part in plain]
        plain = ",".join(words) or NONE
    return settings_from_data({name: plain})[name]
