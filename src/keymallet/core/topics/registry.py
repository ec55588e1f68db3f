"""All topics by name. Adding one is adding a module, and one line here."""

from __future__ import annotations

from keymallet.core.topics.elevation import ELEVATION_TOPIC
from keymallet.core.topics.exemptions import EXEMPTIONS_TOPIC
from keymallet.core.topics.factors import FACTORS_TOPIC
from keymallet.core.topics.lockouts import LOCKOUTS_TOPIC
from keymallet.core.topics.passwords import PASSWORDS_TOPIC
from keymallet.core.topics.report import Topic
from keymallet.core.topics.temporary import TEMPORARY_TOPIC

TOPICS: dict[str, Topic] = {
    topic.name: topic
    for topic in (
        FACTORS_TOPIC,
        PASSWORDS_TOPIC,
        LOCKOUTS_TOPIC,
        EXEMPTIONS_TOPIC,
        ELEVATION_TOPIC,
        TEMPORARY_TOPIC,
    )
}
