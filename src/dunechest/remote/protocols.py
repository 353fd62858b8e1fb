"""Which module speaks to which server."""

from __future__ import annotations

from dunechest.errors import PackageMissingError
from dunechest.remote.address import Address
from dunechest.remote.store import Store


def open_store(address: Address, password: str | None) -> Store:
    """Return what speaks to a server; nothing is said to it before it has proven who it is.

    Raises
    ------
    PackageMissingError
        If the package for that protocol is not installed.
    ServerError
        If the server does not answer, does not prove who it is, or does not let one in.
    """
    try:
        if address.protocol == "sftp":
            from dunechest.remote import sftp

            return sftp.SftpStore(address, password)
        if address.protocol == "webdav":
            from dunechest.remote import webdav

            return webdav.WebdavStore(address, password)
        from dunechest.remote import s3

        return s3.S3Store(address, password)
    except ImportError as error:
        if isinstance(error, PackageMissingError):
            raise
        raise _missing_package(error) from error


def _missing_package(error: ImportError) -> PackageMissingError:
    """Return the error for a protocol whose package is not installed."""
    return PackageMissingError(
        f"A chest on a server needs another package ({error.name}): pip install 'dunechest[remote]'"
    )
