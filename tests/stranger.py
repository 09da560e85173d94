"""What another user of the machine gets: run by root with the ports and folders to try."""

import ast
import os
import socket
import ssl
import sys

HTTP = b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"
NOBODY = 65534
PATHS = (b"/", b"/api/state", b"/api/events", b"/health", b"/info/main/workers.html", b"/metrics")


def said(place, *, secure, first):
    """The first bytes that come back, or b"" where nothing does."""
    try:
        line = socket.create_connection(place, 2)
        if secure:
            context = ssl.create_default_context()
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
            line = context.wrap_socket(line)
        line.settimeout(1)
        line.sendall(first)
        return line.recv(4000)
    except OSError:
        return b""


def reached(place):
    """What a port gives to somebody without credentials: nothing, a refusal, or more."""
    for path in PATHS:
        request = HTTP.replace(b"GET /", b"GET " + path, 1)
        for secure in (False, True):
            answer = said(place, secure=secure, first=request)
            if answer.startswith(b"HTTP/1.1 ") and not answer.startswith(b"HTTP/1.1 401"):
                return answer[:60]
            if secure and answer and not answer.startswith(b"HTTP"):
                return answer[:60]
    return None


def read(folder):
    """Files below a folder that can be opened, or whose names can be seen."""
    try:
        return [os.path.join(folder, name) for name in os.listdir(folder)]
    except OSError:
        return []


said(("127.0.0.1", 9), secure=True, first=HTTP)  # loads what the new user may not read
"x".encode("idna")
os.setgroups([])
os.setgid(NOBODY)
os.setuid(NOBODY)
ports, folders = ast.literal_eval(sys.argv[1]), sys.argv[2:]
print("reached:", [(place, what) for place in ports if (what := reached(place)) is not None])
print("read:", [path for folder in folders for path in read(folder)])
