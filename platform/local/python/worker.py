"""Runs one function: reads calls from file descriptor 3, answers them on 4.

Frames are four bytes of length, big-endian, and JSON. Before each answer the
output is flushed, so that every line belongs to the right call.
"""
import json
import os
import resource
import struct
import sys
import time

# What few calls need is imported when they do: a cold start waits for the rest.
CALLS, ANSWERS = 3, 4
LENGTH = struct.Struct(">I")

# How many characters of a failure's trace are reported.
TRACE = 64 << 10

HIGH = "the function went over its memory limit"
TOO_MUCH_MEMORY = json.dumps({"call": "%s", "error": {"kind": "MemoryError", "message": HIGH}, "memory": True}).encode()


class Call:
    """What a handler gets: the event and the circumstances of this call."""

    __slots__ = ("event", "id", "function", "version", "stage", "deadline", "memory_limit")

    def __init__(self, frame, start):
        self.event = frame["event"]
        self.id = frame["id"]
        self.deadline = frame["deadline"]
        self.function = start["function"]
        self.version = start["version"]
        self.stage = start["stage"]
        self.memory_limit = start["memory_limit"]

    def remaining_ms(self):
        return max(0, int(self.deadline - time.time() * 1000))


def receive():
    """Reads one frame, which most often comes in one piece."""
    held = read()
    while len(held) < 4:
        held += read()
    size = 4 + LENGTH.unpack_from(held)[0]
    if len(held) < size:
        parts, left = [held], size - len(held)
        while left:
            part = read()
            parts.append(part)
            left -= len(part)
        held = b"".join(parts)
    return json.loads(held[4:].decode())


def read():
    part = os.read(CALLS, 1 << 16)
    if not part:
        os._exit(0)
    return part


def send(body):
    frame = LENGTH.pack(len(body)) + body
    sent = os.write(ANSWERS, frame)
    while sent < len(frame):
        sent += os.write(ANSWERS, memoryview(frame)[sent:])


def failure(error):
    import traceback

    whole = told = traceback.TracebackException.from_exception(error)
    seen = set()
    todo = [told]
    while todo:  # what the worker itself did is of no interest
        told = todo.pop()
        if told is None or id(told) in seen:
            continue
        seen.add(id(told))
        own = [f for f in told.stack if f.filename != failure.__code__.co_filename and "importlib" not in f.filename]
        told.stack = traceback.StackSummary.from_list(own)
        todo += [told.__cause__, told.__context__, *(getattr(told, "exceptions", None) or [])]
    return {"error": {"kind": type(error).__name__, "message": str(error)[:2000], "trace": "".join(whole.format(chain=True))[-TRACE:]}}


def plain(answer):
    """An answer to a route may hold bytes; JSON carries them as base64."""
    if isinstance(answer, dict) and isinstance(answer.get("body"), (bytes, bytearray)):
        import base64

        return {**answer, "body": base64.b64encode(answer["body"]).decode(), "body_is_base64": True}
    return answer


def load(code, handler):
    import importlib

    sys.path[:0] = [code, os.path.dirname(__file__)]
    file, _, name = handler.partition(":")
    module = importlib.import_module(file.replace("/", "."))
    function = getattr(module, name, None)
    if not callable(function):
        raise LookupError(f"{file}.py has no function {name}; the handler is {handler}")
    return function


def flush():
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except Exception:
            pass


def main():
    start = receive()
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_DATA, (start["memory_limit"], start["memory_limit"]))
    try:
        function = load(start["code"], start["handler"])
        ready = {}
    except BaseException as error:
        ready = failure(error)
    flush()
    send(json.dumps({**ready, "call": start["id"]}).encode())
    while True:
        call = Call(receive(), start)
        # An answer says which call it belongs to.
        try:
            answer = function(call)
            if hasattr(answer, "__await__"):
                import asyncio

                answer = asyncio.run(answer)
            body = json.dumps({"call": call.id, "answer": plain(answer)}).encode()
        except MemoryError:
            answer = None
            body = TOO_MUCH_MEMORY % call.id.encode()
        except BaseException as error:
            body = json.dumps({"call": call.id, **failure(error)}).encode()
        flush()
        send(body)
        answer = call = body = None


main()
