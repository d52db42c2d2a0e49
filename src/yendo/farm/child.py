"""The process of a slot: cells come by standard input, proofs go by standard output. When its owner goes, it goes."""

from __future__ import annotations

import _thread
import os
import sys
import threading
import time
from pathlib import Path
from queue import SimpleQueue

import msgspec

from yendo.farm.job import play
from yendo.farm.slots import Reply, Request, receive, send


def main() -> None:
    # What a library prints must not get between the messages.
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    asked: SimpleQueue[bytes] = SimpleQueue()

    playing = threading.Event()

    def listen() -> None:
        while body := receive(sys.stdin.buffer):
            asked.put(body)
        if playing.is_set():  # the owner has gone, or wants no more: what is played ends like by Ctrl-C
            _thread.interrupt_main()
            time.sleep(4)
        os._exit(0)

    threading.Thread(target=listen, daemon=True).start()
    while True:
        request = msgspec.json.decode(asked.get(), type=Request)
        playing.set()
        try:
            proof = play(request.job, Path(request.root), request.making, lambda text: send(out, Reply(said=str(text))))
            send(out, Reply(proof=proof))
        except Exception as error:
            send(out, Reply(error=type(error).__name__, words=str(error)))
        except KeyboardInterrupt:
            return
        playing.clear()


if __name__ == "__main__":
    main()
