"""Carrying a conversation out in time, whatever frames are sent by and come in by."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

from fixed_anchor.packets.conversation import Conversation, Send

#: Sends one frame; false where there is no room for it just now.
SendFrame = Callable[[bytes], bool]
#: Hands what has arrived over to the conversation; waits at most so many seconds for the first frame.
Drain = Callable[[float], None]


def exchange(conversation: Conversation, send: SendFrame, drain: Drain) -> None:
    """Sends each frame at its time, and ends at the deadline or as soon as the conversation is finished."""
    begin = time.monotonic()
    sends: Iterator[Send] = conversation.sends()
    coming = next(sends, None)
    sent = 0
    while not conversation.finished:
        now = time.monotonic() - begin
        if coming is None:
            if now >= conversation.deadline:
                break
            drain(conversation.deadline - now)
        elif coming.at <= now:
            if not send(coming.frame):
                # The queue of the interface is full: wait, and try the same frame again.
                time.sleep(0.001)
                drain(0)
                continue
            coming = next(sends, None)
            sent += 1
            # Answers come while we still send; a socket that nobody reads loses them.
            if sent % 64 == 0:
                drain(0)
        else:
            drain(coming.at - now)
