#!/usr/bin/env python3
"""An adapter for Pindrel, and the small platform that it speaks for, in one file.

As an adapter (`driver = "program"`) it is run once for each call: one line of JSON on standard input,
one on standard output; see docs/endpoint-protocol.md. What it is told it keeps in a folder:

    FOLDER/endpoint.json        id, kind, addresses and port of the one endpoint; written by you
    FOLDER/certificates/*.pem   chain and key, by the fingerprint of the leaf
    FOLDER/bindings.json        the bindings, by hostname

As a platform (`folder_edge.py FOLDER serve`) it answers HTTPS from that folder. It takes up a change with
the next connection.

Python 3.9 or later; nothing but the standard library.
"""

import contextlib
import fcntl
import hashlib
import http.server
import json
import os
import pathlib
import re
import ssl
import sys
import urllib.parse


class Problem(Exception):
    """A refusal: a status and what a person is told."""

    def __init__(self, status, detail):
        super().__init__(detail)
        self.status = status


class Folder:
    """What the platform keeps."""

    def __init__(self, path):
        self.path = pathlib.Path(path)
        self.certificates = self.path / "certificates"

    def endpoint(self):
        return json.loads((self.path / "endpoint.json").read_text())

    def bindings(self):
        try:
            return json.loads((self.path / "bindings.json").read_text())
        except FileNotFoundError:
            return {}

    def write_bindings(self, bindings):
        self.write(self.path / "bindings.json", json.dumps(bindings, indent=2) + "\n")

    def write(self, path, text):
        """Replaces a file as a whole: whoever reads finds the old one or the new one."""
        new = path.with_name(path.name + ".new")
        with open(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.replace(new, path)

    @contextlib.contextmanager
    def lock(self):
        """Lets one call change the folder at a time: Pindrel makes several at once."""
        with open(self.path / ".lock", "w") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            yield

    def used_by(self, sha256):
        return sum(binding["certificate"] == sha256 for binding in self.bindings().values())


def etag_of(binding):
    digest = hashlib.sha256(json.dumps(binding, sort_keys=True).encode()).hexdigest()
    return f'"{digest[:16]}"'


def reply(status, body=None, etag=None):
    return {"status": status, "etag": etag, "body": body}


def endpoints(folder, call):
    return reply(200, {"endpoints": [folder.endpoint()]})


def list_certificates(folder, call, site):
    stored = sorted(path.stem for path in folder.certificates.glob("*.pem"))
    return reply(200, {"certificates": [{"sha256": sha256, "used_by": folder.used_by(sha256)} for sha256 in stored]})


def put_certificate(folder, call, site, sha256):
    chain, key = call["body"]["chain"], call["body"]["key"]
    leaf = re.search("-----BEGIN CERTIFICATE-----.+?-----END CERTIFICATE-----", chain, re.DOTALL)
    if not leaf or hashlib.sha256(ssl.PEM_cert_to_DER_cert(leaf.group())).hexdigest() != sha256:
        raise Problem(422, "the fingerprint is not that of the first certificate in the chain")
    folder.certificates.mkdir(mode=0o700, exist_ok=True)
    trial = folder.certificates / f"{sha256}.trial"
    folder.write(trial, chain + key)
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(trial)
    except ssl.SSLError:
        trial.unlink()
        raise Problem(422, "the key is not that of the certificate") from None
    os.replace(trial, folder.certificates / f"{sha256}.pem")
    return reply(200)


def delete_certificate(folder, call, site, sha256):
    if folder.used_by(sha256):
        raise Problem(409, "a binding uses it")
    try:
        (folder.certificates / f"{sha256}.pem").unlink()
    except FileNotFoundError:
        raise Problem(404, "no such certificate") from None
    return reply(204)


def list_bindings(folder, call, endpoint):
    bound = folder.bindings().items()
    return reply(200, {"bindings": [{"hostname": name, **binding, "state": "deployed"} for name, binding in bound]})


def get_binding(folder, call, endpoint, hostname):
    binding = folder.bindings().get(hostname)
    if binding is None:
        raise Problem(404, "no such binding")
    return reply(200, {**binding, "state": "deployed"}, etag_of(binding))


def require_unchanged(call, present):
    """The two conditions of RFC 9110 that are sent: a binding is only changed as it was read."""
    if call.get("if_none_match") == "*" and present is not None:
        raise Problem(412, "there is a binding already")
    if "if_match" in call and (present is None or call["if_match"] != etag_of(present)):
        raise Problem(412, "the binding has changed")


def put_binding(folder, call, endpoint, hostname):
    bindings, binding = folder.bindings(), call["body"]
    require_unchanged(call, bindings.get(hostname))
    if not (folder.certificates / f"{binding.get('certificate')}.pem").exists():
        raise Problem(422, "there is no such certificate in the store")
    bindings[hostname] = binding
    folder.write_bindings(bindings)
    return reply(200, {**binding, "state": "deployed"}, etag_of(binding))


def delete_binding(folder, call, endpoint, hostname):
    bindings = folder.bindings()
    if hostname not in bindings:
        raise Problem(404, "no such binding")
    require_unchanged(call, bindings[hostname])
    del bindings[hostname]
    folder.write_bindings(bindings)
    return reply(204)


CALLS = [
    ("GET", r"/v1/endpoints", endpoints),
    ("GET", r"/v1/sites/([^/]+)/certificates", list_certificates),
    ("PUT", r"/v1/sites/([^/]+)/certificates/([0-9a-f]{64})", put_certificate),
    ("DELETE", r"/v1/sites/([^/]+)/certificates/([0-9a-f]{64})", delete_certificate),
    ("GET", r"/v1/endpoints/([^/]+)/bindings", list_bindings),
    ("GET", r"/v1/endpoints/([^/]+)/bindings/([^/]+)", get_binding),
    ("PUT", r"/v1/endpoints/([^/]+)/bindings/([^/]+)", put_binding),
    ("DELETE", r"/v1/endpoints/([^/]+)/bindings/([^/]+)", delete_binding),
]


def answer(folder, call):
    if call["version"] != 1:
        raise Problem(400, f"version {call['version']} of the messages is not spoken here")
    for method, path, function in CALLS:
        found = re.fullmatch(path, call["path"])
        if method == call["method"] and found:
            segments = [urllib.parse.unquote(segment) for segment in found.groups()]
            if "/endpoints/" in path and segments[0] != folder.endpoint()["id"]:
                raise Problem(404, f"there is no endpoint {segments[0]}")
            with folder.lock():
                return function(folder, call, *segments)
    raise Problem(404, "there is no such call")


class Front(http.server.BaseHTTPRequestHandler):
    """Answers requests as the binding of the hostname says."""

    protocol_version = "HTTP/1.1"

    def do_GET(self):
        host = self.headers.get("Host", "").partition(":")[0].lower()
        _, binding = self.server.bound(host)
        status, text, location = self.answer_of(host, binding)
        body = text.encode()
        self.send_response(status)
        if location:
            self.send_header("Location", location)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    do_HEAD = do_GET

    def answer_of(self, host, binding):
        if binding is None:
            return 404, "no such hostname here\n", None
        if binding["minimum_tls"] == "1.3" and self.connection.version() != "TLSv1.3":
            return 426, "TLS 1.3 is needed here\n", None
        if binding.get("redirect_to"):
            port = self.server.server_address[1]
            authority = binding["redirect_to"] + ("" if port == 443 else f":{port}")
            return 308, "", f"https://{authority}{self.path}"
        path = self.path.partition("?")[0]
        under = [route for route in binding["routes"] if is_under(path, route["prefix"])]
        if binding["routes"] and not under:
            return 404, "no such path here\n", None
        route = max(under, key=lambda route: len(route["prefix"]), default={"service": "the endpoint"})
        return 200, f"{route['service']} answers for {host}\n", None

    def log_message(self, *_):
        pass


def is_under(path, prefix):
    return prefix == "/" or path == prefix or path.startswith(prefix.rstrip("/") + "/")


class Platform(http.server.ThreadingHTTPServer):
    """A TLS front that picks the certificate by the name that a client asks for (SNI)."""

    def __init__(self, folder):
        place = folder.endpoint()
        super().__init__((place["addresses"][0], place["port"]), Front)
        self.folder = folder
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.sni_callback = self.choose
        self.socket = context.wrap_socket(self.socket, server_side=True, do_handshake_on_connect=False)

    def bound(self, hostname):
        """The binding of a hostname: its own, or that of the wildcard above it."""
        bindings = self.folder.bindings()
        for name in (hostname, "*." + hostname.partition(".")[2]):
            if name in bindings:
                return name, bindings[name]
        return None, None

    def choose(self, connection, hostname, _):
        _, binding = self.bound((hostname or "").lower())
        if binding is None:
            return ssl.ALERT_DESCRIPTION_UNRECOGNIZED_NAME
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self.folder.certificates / f"{binding['certificate']}.pem")
        connection.context = context
        return None

    def handle_error(self, request, client_address):
        """A client that goes away, or asks for a name that is not bound here, is no fault."""


def main():
    if len(sys.argv) == 3 and sys.argv[2] == "serve":
        return Platform(Folder(sys.argv[1])).serve_forever()
    if len(sys.argv) != 2:
        sys.exit(f"usage: {sys.argv[0]} FOLDER [serve]")
    try:
        result = answer(Folder(sys.argv[1]), json.loads(sys.stdin.readline()))
    except Problem as problem:
        result = reply(problem.status, {"title": "Refused", "status": problem.status, "detail": str(problem)})
    print(json.dumps(result))


main()
