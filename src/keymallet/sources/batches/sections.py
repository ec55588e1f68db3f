"""How the estate reads the target of a batch, as a batch of another format can use it."""

from __future__ import annotations

from typing import Any

import msgspec

from keymallet.sources.sections import SourceSection


def section_as(section: SourceSection | None, shape: type[Any], **always: Any) -> Any:
    """What a section says that another shape of section says as well; the rest as that has it."""
    known = {field.name for field in msgspec.structs.fields(shape)}
    told = msgspec.structs.asdict(section) if section is not None else {}
    return shape(**{name: value for name, value in {**told, **always}.items() if name in known})
