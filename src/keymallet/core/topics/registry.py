"""All topics by name. Adding one is adding a module, and one line here."""

from __future__ import annotations

from keymallet.core.topics.elevation import ELEVATION
from keymallet.core.topics.exemptions import EXEMPTIONS
from keymallet.core.topics.factors import FACTORS
from keymallet.core.topics.lockouts import LOCKOUTS
from keymallet.core.topics.passwords import PASSWORDS
from keymallet.core.topics.picture import Topic
from keymallet.core.topics.temporary import TEMPORARY

TOPICS: dict[str, Topic] = {
    topic.name: topic for topic in (FACTORS, PASSWORDS, LOCKOUTS, EXEMPTIONS, ELEVATION, TEMPORARY)
}
