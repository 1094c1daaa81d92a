"""What an answer says to whoever asked, kept from the request to the next page: by key, so that it is read in her
language.
"""

from django.contrib.messages.storage.base import Message
from django.contrib.messages.storage.session import SessionStorage

from mastering.said import read, written


class Notices(SessionStorage):
    """Messages in the session."""

    def serialize_messages(self, messages):
        kept = [Message(each.level, written(each.message), each.extra_tags) for each in messages]
        return super().serialize_messages(kept)

    def deserialize_messages(self, data):
        messages = super().deserialize_messages(data)
        for each in messages or ():
            each.message = read(each.message)
        return messages
