"""The words of all topics, by the topic's name."""

from __future__ import annotations

from keymallet.views.topic_words import elevation, exemptions, factors, lockouts, passwords, temporary
from keymallet.views.topic_words.model import TopicWords

WORDS: dict[str, TopicWords] = {
    "factors": factors.WORDS,
    "passwords": passwords.WORDS,
    "lockouts": lockouts.WORDS,
    "exemptions": exemptions.WORDS,
    "elevation": elevation.WORDS,
    "temporary": temporary.WORDS,
}
