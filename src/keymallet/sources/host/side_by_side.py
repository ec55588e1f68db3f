"""Many hosts, read by as many processes as there are cores: most of a small host's time goes into Python."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import NamedTuple
from zoneinfo import ZoneInfo

from keymallet.core.facts.reading import Reading
from keymallet.engines.processes import Processes, cores
from keymallet.sources.host.reader import HostReader
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from keymallet.sources.shared.digests import key_of_this_process, take_key

WORTH_IT = 64
"""So many hosts are read by one process before others would have begun."""
_AT_ONCE = 8
"""So many hosts are asked of a process at once."""


class _Asked(NamedTuple):
    """Some hosts of a source, by the names of their folders, and all it takes to read them."""

    section: HostSection
    source: str
    estate: Path
    clock: ZoneInfo
    at: datetime
    hosts: tuple[str, ...]


def read_hosts(section: HostSection, request: Request, hosts: list[str]) -> list[Reading]:
    """Read hosts below the section's folder, in this order. Raises KeymalletError."""
    processes = min(cores(), len(hosts) // _AT_ONCE)
    readings: list[Reading] = []
    if processes < 2 or len(hosts) < WORTH_IT:
        for host in hosts:
            readings.append(_reading(section, request, host))
            request.advanced(len(readings), len(hosts), "hosts")
        return readings
    asked = [
        _Asked(
            section, request.name, request.folder, request.clock, request.at, tuple(hosts[n : n + _AT_ONCE])
        )
        for n in range(0, len(hosts), _AT_ONCE)
    ]
    # With one key for all, passwords that are the same on hosts read by different processes are seen to be.
    with Processes(processes, take_key, key_of_this_process()) as readers:
        for some in readers.each(_read, asked):
            readings += some
            request.advanced(len(readings), len(hosts), "hosts")
    return readings


def _reading(section: HostSection, request: Request, host: str) -> Reading:
    return HostReader(section, request, f"{request.name}/{host}", f"{section.folder}/{host}").reading()


def _read(asked: _Asked) -> list[Reading]:
    """Read some hosts, with the files that were read noted in each."""
    with ThreadPoolExecutor(1) as workers:
        request = Request(asked.source, asked.estate, asked.clock, asked.at, workers)
        readings = [_reading(asked.section, request, host) for host in asked.hosts]
        request.note_files()
    return readings
