"""Messages as data: what is kept or decided by is a code with typed parts; one catalogue of templates puts it into words."""

from wintry_tally.core.message.message import (
    NOTHING,
    OWN,
    Message,
    Part,
    as_message,
    message_data,
    message_from,
    said,
    sentences,
    several,
    words_of,
)

__all__ = [
    "NOTHING",
    "OWN",
    "Message",
    "Part",
    "as_message",
    "message_data",
    "message_from",
    "said",
    "sentences",
    "several",
    "words_of",
]
