"""Free ports of this machine."""

import socket


def free_port(wanted: int = 0, bind: str = "127.0.0.1") -> int:
    """``wanted`` where it is free at an address of this machine, else any free port there."""
    family = socket.AF_INET6 if ":" in bind else socket.AF_INET
    for port in (wanted, 0):
        with socket.socket(family) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((bind, port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise OSError(f"no free port at {bind}")
