#!/usr/bin/env python3
"""An adapter between Pindrel and a name server, as `driver = "program"` of a zone runs it.

It reads one request in JSON from standard input and writes one reply to standard output; what
goes wrong in the program itself is told on standard error, with another exit status than 0.
docs/zone-program.md describes the messages.

This one keeps its zones in JSON files, one a zone, so that it can be tried and read as a whole.
An adapter for a real name server replaces the class Store: read() returns all records of a
zone, and write() makes them what they are given. Only the standard library is used.

    dns-adapter.py FOLDER
"""

import contextlib
import fcntl
import json
import os
import sys
import tempfile


class Refused(Exception):
    """A request that is not carried out: what it is, in one word, and why."""

    def __init__(self, kind, says, remedy=""):
        super().__init__(says)
        self.reply = {"error": {"is": kind, "says": says, "remedy": remedy}}


class Store:
    """The records of one zone: {(name, type): {"ttl": seconds, "data": [text, …]}}."""

    def __init__(self, folder, zone):
        self.path = os.path.join(folder, zone + "json")

    @contextlib.contextmanager
    def locked(self):
        """Holds the zone for one reader and writer at a time."""
        try:
            lock = open(self.path + ".lock", "w")
        except OSError as error:
            raise Refused("unreachable", f"{self.path} cannot be locked: {error.strerror}", "Create its folder")
        with lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            yield

    def read(self):
        try:
            with open(self.path) as file:
                records = json.load(file)
        except FileNotFoundError:
            raise Refused("refused", f"there is no zone in {self.path}", "Create the zone first")
        return {(name, record_type): entry for name, record_type, entry in records}

    def write(self, sets):
        records = [[name, record_type, entry] for (name, record_type), entry in sorted(sets.items())]
        folder = os.path.dirname(self.path) or "."
        with tempfile.NamedTemporaryFile("w", dir=folder, delete=False) as file:
            json.dump(records, file, indent=1)
        os.replace(file.name, self.path)


def describe(store, request):
    """What this name server can do; every key may be left out."""
    return {
        # A change is made only where the records are as expected, in one step.
        "conditional": True,
        "least_ttl": 1,
        "greatest_ttl": 86400,
        "records_per_set": 100,
        "seconds": 30,
    }


def read(store, request):
    """The records of the names that are asked for; of the whole zone where none are."""
    names = request.get("names")
    with store.locked():
        sets = store.read()
    return {
        "records": [
            {"name": name, "type": record_type, "ttl": entry["ttl"], "data": data}
            for (name, record_type), entry in sets.items()
            if names is None or name in names
            for data in entry["data"]
        ]
    }


def change(store, request):
    """Makes all of the sets what they are wanted to be, or none of them."""
    with store.locked():
        sets = store.read()
        for wanted in request["sets"]:
            key = (wanted["name"], wanted["type"])
            present = sets.get(key, {"data": []})["data"]
            if sorted(present) != sorted(wanted["expected"]):
                raise Refused("changed", f"{key[0]} {key[1]} was changed by someone else in the meantime")
            if wanted["wanted"]:
                sets[key] = {"ttl": wanted["ttl"], "data": wanted["wanted"]}
            else:
                sets.pop(key, None)
        store.write(sets)
    return {"done": True}


def main():
    request = json.load(sys.stdin)
    if request["version"] != 1:
        raise Refused("refused", f"version {request['version']} is not known here", "Use a newer adapter")
    actions = {"describe": describe, "read": read, "change": change}
    action = actions.get(request["do"])
    if action is None:
        raise Refused("refused", f"\"{request['do']}\" is not known here", "Use a newer adapter")
    return action(Store(sys.argv[1], request["zone"]), request)


if __name__ == "__main__":
    try:
        reply = main()
    except Refused as refused:
        reply = refused.reply
    json.dump(reply, sys.stdout)
