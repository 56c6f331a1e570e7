"""Runs one function: reads calls from file descriptor 3, answers them there.

Frames are four bytes of length, big-endian, and JSON. Before each answer the
output is flushed and an end mark is written to both streams, so that every
line belongs to the right call.
"""
import json
import os
import resource
import struct
import sys
import time

# What few calls need is imported when they do: a cold start waits for the rest.
SOCKET = 3

HIGH = "the function went over its memory limit"
TOO_MUCH_MEMORY = json.dumps({"error": {"kind": "MemoryError", "message": HIGH}, "memory": True}).encode()


class Call:
    """What a handler gets: the event and the circumstances of this call."""

    __slots__ = ("event", "id", "function", "version", "stage", "deadline", "memory_limit")

    def __init__(self, frame):
        for name in self.__slots__:
            setattr(self, name, frame.get(name))

    def remaining_ms(self):
        return max(0, int(self.deadline - time.time() * 1000))


def receive():
    head = receive_exactly(4)
    return json.loads(receive_exactly(struct.unpack(">I", head)[0]))


def receive_exactly(size):
    parts = []
    while size:
        part = os.read(SOCKET, min(size, 1 << 20))
        if not part:
            os._exit(0)
        parts.append(part)
        size -= len(part)
    return b"".join(parts)


def send(body):
    rest = memoryview(struct.pack(">I", len(body)) + body)
    while rest:
        rest = rest[os.write(SOCKET, rest):]


def failure(error):
    import traceback

    frames = traceback.extract_tb(error.__traceback__)
    own = [f for f in frames if f.filename != __file__ and "importlib" not in f.filename]
    trace = "".join(traceback.format_list(own)) + "".join(traceback.format_exception_only(type(error), error))
    return {"error": {"kind": type(error).__name__, "message": str(error)[:2000], "trace": trace[-8000:]}}


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


def end(mark):
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except Exception:
            pass
    os.write(1, mark)
    os.write(2, mark)


def main():
    start = receive()
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_DATA, (start["memory_limit"], start["memory_limit"]))
    mark = start["mark"].encode() + b"\n"
    try:
        function = load(start["code"], start["handler"])
        ready = {}
    except BaseException as error:
        ready = failure(error)
    end(mark)
    send(json.dumps(ready).encode())
    while True:
        call = Call(receive())
        try:
            answer = function(call)
            if hasattr(answer, "__await__"):
                import asyncio

                answer = asyncio.run(answer)
            body = json.dumps({"answer": plain(answer)}).encode()
        except MemoryError:
            answer = None
            body = TOO_MUCH_MEMORY
        except BaseException as error:
            body = json.dumps(failure(error)).encode()
        end(mark)
        send(body)
        answer = call = body = None


main()
