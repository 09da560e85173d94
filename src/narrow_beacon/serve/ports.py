"""Free ports on loopback."""

import socket


def free_port(wanted: int = 0) -> int:
    """``wanted`` where it is free, else any free port on loopback."""
    for port in (wanted, 0):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise OSError("no free port on loopback")
