"""What a function may reach, as far as its permissions allow.

    import rudmar
    stations = rudmar.table("stations")
    stations.write("hill", {"limit": 0.5})
    stations.read("hill")            # None where there is no such row
    stations.query(prefix="h")       # {key: row}
    stations.delete("hill")
"""
import json
import os
import urllib.error
import urllib.parse
import urllib.request


class Refused(PermissionError):
    """The function's permissions do not allow this."""


class Failed(RuntimeError):
    """The platform could not do this."""


def _ask(method, path, body=None):
    request = urllib.request.Request(
        os.environ["RUDMAR_DATA"] + path,
        method=method,
        data=None if body is None else json.dumps(body).encode(),
        headers={"Authorization": "Bearer " + os.environ["RUDMAR_TOKEN"]},
    )
    try:
        with urllib.request.urlopen(request, timeout=30) as answer:
            text = answer.read()
            return json.loads(text) if text else None
    except urllib.error.HTTPError as error:
        detail = json.loads(error.read() or b"{}").get("detail", str(error))
        if error.code == 404:
            return None
        if error.code in (401, 403):
            raise Refused(detail) from None
        raise Failed(detail) from None


class Table:
    """Rows of JSON by key."""

    def __init__(self, name):
        self._path = "/tables/" + urllib.parse.quote(name, safe="")

    def _row(self, key):
        return self._path + "/" + urllib.parse.quote(key, safe="")

    def read(self, key):
        return _ask("GET", self._row(key))

    def write(self, key, row):
        _ask("PUT", self._row(key), row)

    def delete(self, key):
        _ask("DELETE", self._row(key))

    def query(self, prefix=""):
        answer = _ask("GET", self._path + "?prefix=" + urllib.parse.quote(prefix, safe=""))
        return {row["key"]: row["value"] for row in answer["rows"]}


def table(name):
    return Table(name)
