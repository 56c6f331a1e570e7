"""What a function may reach, as far as its permissions allow.

    import rudmar
    stations = rudmar.table("stations")
    stations.write("hill", {"limit": 0.5})
    stations.read("hill")            # None where there is no such row
    stations.query(prefix="h")       # {key: row}
    stations.delete("hill")

    photos = rudmar.objects("photos")
    photos.write("raw/hill.jpg", b"...", type="image/jpeg")
    photos.read("raw/hill.jpg")      # bytes; None where there is no such object
    photos.list(prefix="raw/")       # [{"key": ..., "size": ..., "type": ...}]
    photos.delete("raw/hill.jpg")

    rudmar.queue("alerts").send({"station": "hill"})
    rudmar.secret("sms_key")
"""
import http.client
import json
import os
import socket
import urllib.parse


class Denied(PermissionError):
    """The function's permissions do not allow this."""


Refused = Denied  # the former name, for functions that are deployed


class Failed(RuntimeError):
    """The platform could not do this."""


class _Line(http.client.HTTPConnection):
    """HTTP over the socket that the platform gave this function."""

    def connect(self):
        self.sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self.sock.settimeout(30)
        self.sock.connect(os.environ["RUDMAR_SOCKET"])


def _ask(method, path, body=None, kind="application/json"):
    if os.environ.get("RUDMAR_SOCKET"):
        line = _Line("platform", timeout=30)
    else:
        line = http.client.HTTPConnection(urllib.parse.urlsplit(os.environ["RUDMAR_DATA"]).netloc, timeout=30)
    try:
        line.request(method, "/data" + path, body=body, headers={"Authorization": "Bearer " + os.environ["RUDMAR_TOKEN"], "Content-Type": kind})
        answer = line.getresponse()
        text = answer.read()
    finally:
        line.close()
    if answer.status < 400:
        return text
    detail = json.loads(text or b"{}").get("detail", str(answer.status))
    if answer.status == 404:
        return None
    if answer.status in (401, 403):
        raise Denied(detail)
    raise Failed(detail)


def _json(method, path, body=None):
    text = _ask(method, path, None if body is None else json.dumps(body).encode())
    return json.loads(text) if text else None


def _quoted(text):
    return urllib.parse.quote(text, safe="")


class Table:
    """Rows of JSON by key."""

    def __init__(self, name):
        self._path = "/tables/" + _quoted(name)

    def read(self, key):
        return _json("GET", self._path + "/" + _quoted(key))

    def write(self, key, row):
        text = json.dumps(row).encode()
        _ask("PUT", self._path + "/" + _quoted(key), text)

    def delete(self, key):
        _ask("DELETE", self._path + "/" + _quoted(key))

    def query(self, prefix=""):
        answer = _json("GET", self._path + "?prefix=" + _quoted(prefix))
        return {row["key"]: row["value"] for row in answer["rows"]}


class Objects:
    """Bytes by key."""

    def __init__(self, name):
        self._path = "/objects/" + _quoted(name)

    def read(self, key):
        return _ask("GET", self._path + "/" + urllib.parse.quote(key))

    def write(self, key, content, type="application/octet-stream"):
        _ask("PUT", self._path + "/" + urllib.parse.quote(key), content, type)

    def delete(self, key):
        _ask("DELETE", self._path + "/" + urllib.parse.quote(key))

    def list(self, prefix=""):
        return _json("GET", self._path + "?prefix=" + _quoted(prefix))["objects"]


class Queue:
    """Messages of JSON, in order of arrival."""

    def __init__(self, name):
        self._path = "/queues/" + _quoted(name)

    def send(self, message):
        return _json("POST", self._path, message)["id"]


def table(name):
    return Table(name)


def objects(name):
    return Objects(name)


def queue(name):
    return Queue(name)


def secret(name):
    return _json("GET", "/secrets/" + _quoted(name))["value"]
