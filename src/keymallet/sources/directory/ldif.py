"""`read = "ldif"`: a directory's dump (RFC 2849), interpreted as the live directory would be.

The file is cut into records here, so that each fault has its line; a record is read by the `ldif`
package. Change records are refused: they say what to do, not what is.
"""

from __future__ import annotations

import binascii
import io
import re
from collections.abc import Iterator

from ldif import LDIFParser

from keymallet.core.base.problems import fail
from keymallet.core.facts.reading import Reading, Refusal, digest_of_record
from keymallet.sources.directory.entries import Entry, attribute_name, first_value
from keymallet.sources.directory.interpret import Directory, unique
from keymallet.sources.request import Request
from keymallet.sources.sections import LdifSection
from keymallet.sources.shared import limits

_ELSEWHERE = re.compile(rb"^([A-Za-z][\w;.-]*):<", re.MULTILINE)
_CHANGE = re.compile(rb"^changetype:[ ]*(\w*)", re.MULTILINE | re.IGNORECASE)
_ADDS_MEMBERS = re.compile(rb"^add:[ ]*(member|uniqueMember|memberUid)[ ]*$", re.IGNORECASE)
_LONGEST_NAME = 8_000


def read(section: LdifSection, request: Request) -> list[Reading]:
    """Read the files. Raises KeymalletError if one cannot be read, or holds no entry at all."""
    reading = Reading(request.name)
    entries: list[Entry] = []
    paths = [section.files] if isinstance(section.files, str) else section.files
    for path in paths:
        read_entries = list(entries_of(path, request.bytes_of(path, reading), reading))
        if not read_entries:
            hint = "a record begins with dn: and ends with a blank line"
            raise fail("no entry stands here", file=path, hint=hint)
        entries += read_entries
    Directory(section, reading, request.at, unique(entries)).interpret()
    return [reading]


def entries_of(path: str, data: bytes, reading: Reading, *, adding: bool = False) -> Iterator[Entry]:
    """The entries of a file; with `adding`, those that its change records would add.

    What cannot be read, or asks for another change, is noted in the reading's accounts. A record that adds
    members to a group that is there gives the group with these.
    """
    intake = reading.table_intake("account")
    for line, block in _blocks(data):
        if len(block) > limits.LARGEST_RECORD:
            intake.refuse(Refusal(path, line, f"a record of {len(block):,} bytes is too large"))
            continue
        for name in _ELSEWHERE.findall(block):
            complaint = "a value that stands in another file is not fetched"
            intake.cannot_read(1, [Refusal(path, line, complaint, name.decode("ascii", "replace"))])
        change = _CHANGE.search(block)
        if change and not adding:
            hint = "dump the entries themselves, not changes to them"
            intake.refuse(Refusal(path, line, f"a change record: {hint}"))
            continue
        if change and change[1].lower() != b"add":
            members = _added_members(block) if change[1].lower() == b"modify" else None
            if members is None:
                what = change[1].decode("ascii", "replace")
                intake.refuse(Refusal(path, line, f"it asks for another change than to add: {what}"))
                continue
            block = members
        if _first_line_is_too_long(block):
            intake.refuse(Refusal(path, line, "the name of the entry is longer than any directory takes"))
            continue
        try:
            ((dn, values),) = LDIFParser(io.BytesIO(block), encoding=None).parse()
        except (ValueError, binascii.Error, IndexError, AttributeError, TypeError) as error:
            # An empty block of comments or a version line alone is no record.
            if _is_only_prelude(block):
                continue
            complaint = "a line without a colon" if "not found" in str(error) else str(error)[:80]
            why = f"no record: {complaint}"
            intake.refuse(Refusal(path, line, why, record=digest_of_record(block)))
            continue
        if dn is None:
            if values:
                why = "no record: it does not begin with dn:"
                intake.refuse(Refusal(path, line, why, record=digest_of_record(block)))
            continue
        attributes: dict[str, list[bytes]] = {}
        for described, attribute in values.items():
            attributes.setdefault(attribute_name(described), []).extend(attribute)
        if adding:
            # A group that is there already tells no name of its own.
            attributes.setdefault("cn", [first_value(dn).encode()])
        yield Entry(dn, attributes, path, line)


def _added_members(block: bytes) -> bytes | None:
    """A record that adds members to a group as one of a group with these; None where it does more."""
    begin, *rest = re.split(rb"^changetype:.*\n", block, maxsplit=1, flags=re.MULTILINE | re.IGNORECASE)
    members: list[bytes] = []
    for part in re.split(rb"^-[ ]*\n?", rest[0] if rest else b"", flags=re.MULTILINE):
        lines = [line for line in part.split(b"\n") if line]
        if lines and not _ADDS_MEMBERS.match(lines[0]):
            return None
        members += lines[1:]
    if not members:
        return None
    return b"".join([begin, b"objectClass: groupOfNames\n", *(line + b"\n" for line in members)])


def _blocks(data: bytes) -> Iterator[tuple[int, bytes]]:
    """Records with the line each begins on; a blank line ends one."""
    begun: list[bytes] = []
    first = 0
    for number, line in enumerate(data.removeprefix(b"\xef\xbb\xbf").split(b"\n"), start=1):
        plain = line.rstrip(b"\r")
        if plain:
            first = first or number
            begun.append(plain)
        elif begun:
            yield first, b"\n".join(begun) + b"\n"
            begun, first = [], 0
    if begun:
        yield first, b"\n".join(begun) + b"\n"


def _is_only_prelude(block: bytes) -> bool:
    lines = [line for line in block.split(b"\n") if line and line[:1] not in (b"#", b" ")]
    return all(line.lower().startswith((b"version:", b"search:", b"result:")) for line in lines)


def _first_line_is_too_long(block: bytes) -> bool:
    """Whether the name, folded lines included, is longer than any real one."""
    size = 0
    for number, line in enumerate(block.split(b"\n")):
        if number and line[:1] != b" ":
            break
        size += len(line)
    return size > _LONGEST_NAME
