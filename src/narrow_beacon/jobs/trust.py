"""How the parts of a cluster know each other: by certificates that only the owner can read.

A scheduler or a worker runs whatever code it is sent. So each side of every connection shows a
certificate that the others know (mutual TLS, Dask's own ``Security``), also on loopback, where
any other user of the machine could connect.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from distributed.security import Security

from narrow_beacon.core.errors import BeaconError

FOLDER_VARIABLE = "BEACON_DASK_TLS"
"""Names the folder with the certificates of the cluster that BEACON_DASK names."""
_CA, _CERTIFICATE, _KEY = "ca.pem", "cert.pem", "key.pem"
_LIFE_DAYS = 3650


class TrustError(BeaconError):
    """A cluster that would run anybody's code, or certificates that are not there."""


def make_trust(folder: Path) -> Path:
    """A new certificate and key in a folder for a cluster that is about to start.

    Made anew at each start: a copy of an old one opens nothing.
    """
    folder.mkdir(parents=True, exist_ok=True)
    folder.chmod(0o700)
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "narrow-beacon-workers")])
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))  # a clock that is put right meanwhile
        .not_valid_after(now + timedelta(days=_LIFE_DAYS))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    shown = certificate.public_bytes(serialization.Encoding.PEM)
    secret = key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )
    for file, content in ((_CA, shown), (_CERTIFICATE, shown), (_KEY, secret)):
        _write(folder / file, content)
    return folder


def _write(path: Path, content: bytes) -> None:
    path.unlink(missing_ok=True)
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(content)


def security(folder: Path) -> Security:
    """What Dask needs to show and to demand the certificates of a folder. Raises TrustError."""
    paths = {name: folder / name for name in (_CA, _CERTIFICATE, _KEY)}
    missing = [str(path) for path in paths.values() if not path.is_file()]
    if missing:
        raise TrustError(f"The cluster's certificates are missing: {', '.join(missing)}.")
    roles = {
        f"tls_{role}_{part}": str(paths[name])
        for role in ("client", "scheduler", "worker")
        for part, name in (("cert", _CERTIFICATE), ("key", _KEY))
    }
    return Security(require_encryption=True, tls_ca_file=str(paths[_CA]), **roles)


def settings(folder: Path) -> dict[str, str]:
    """The same as environment variables, for a process that reads Dask's configuration."""
    prefix = "DASK_DISTRIBUTED__COMM__"
    values = {f"{prefix}REQUIRE_ENCRYPTION": "true", f"{prefix}TLS__CA_FILE": str(folder / _CA)}
    for role in ("CLIENT", "SCHEDULER", "WORKER"):
        values[f"{prefix}TLS__{role}__CERT"] = str(folder / _CERTIFICATE)
        values[f"{prefix}TLS__{role}__KEY"] = str(folder / _KEY)
    return values


def given_cluster(environment: Mapping[str, str]) -> tuple[str, Path] | None:
    """The address and the certificates of the cluster that the environment names, if it does.

    Raises TrustError where that cluster would take code from anyone, or without certificates.
    """
    address = environment.get("BEACON_DASK")
    if not address:
        return None
    if not address.startswith("tls://"):
        raise TrustError(
            f"BEACON_DASK={address} takes and runs code from anyone who reaches it. Start its "
            f"scheduler and workers with certificates, name it as tls://…, and set "
            f"{FOLDER_VARIABLE} to the folder with {_CA}, {_CERTIFICATE} and {_KEY} "
            "(docs/security.md)."
        )
    folder = environment.get(FOLDER_VARIABLE)
    if not folder:
        raise TrustError(
            f"BEACON_DASK={address} needs {FOLDER_VARIABLE}: the folder with {_CA}, "
            f"{_CERTIFICATE} and {_KEY}."
        )
    security(Path(folder))
    return address, Path(folder)
