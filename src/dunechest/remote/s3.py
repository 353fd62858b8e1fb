"""The S3 protocol, by fsspec and s3fs. There are no folders and no renames: a name is copied, then the old one removed."""

from __future__ import annotations

import hashlib
from base64 import b64encode
from collections.abc import Iterable, Iterator
from typing import Any

from botocore.exceptions import BotoCoreError, ClientError
from s3fs import S3FileSystem

from dunechest.errors import ServerError
from dunechest.remote.address import Address, own_file
from dunechest.remote.store import Store, unreachable

#: Bytes of a part; the protocol asks for 5 MB at least, and allows 10,000 parts.
_PART = 16 << 20
_LARGEST_COPY = 5 << 30
_KEEPER = ".dune-folder"


class S3Store(Store):
    """A folder in a bucket."""

    renames_folders = False
    continues = True

    def __init__(self, address: Address, password: str | None) -> None:
        super().__init__(address, password)
        certificate = address.options.get("certificate")
        client: dict[str, Any] = {"region_name": address.options.get("region")}
        if certificate:
            client["verify"] = str(own_file(certificate))
        self._fs = S3FileSystem(
            key=address.options.get("key"),
            secret=password,
            endpoint_url=address.options.get("endpoint") or None,
            use_ssl=True,
            client_kwargs={name: value for name, value in client.items() if value is not None},
            use_listings_cache=False,
            skip_instance_cache=True,
            default_cache_type="none",
            config_kwargs={"connect_timeout": 10, "read_timeout": 60, "retries": {"max_attempts": 1}},
        )
        self._bucket = address.host
        self._ask("head_bucket")

    def _key(self, path: str) -> str:
        return f"{self.address.folder}/{path}".strip("/")

    def _ask(self, method: str, **words: Any) -> Any:
        """Have the server do one thing.

        Raises
        ------
        FileNotFoundError
            If there is no such object.
        ServerError
            If it does not do it.
        """
        return self._do(self._fs.call_s3, method, Bucket=self._bucket, **words)

    def _do(self, call: Any, *words: Any, **named: Any) -> Any:
        try:
            return call(*words, **named)
        except FileNotFoundError:
            raise
        except PermissionError as error:
            raise ServerError(13, f"{self.address.server} does not let {self._who} in") from error
        except ClientError as error:
            raise self._refusal(error) from error
        except (BotoCoreError, OSError, ValueError) as error:
            if isinstance(error, ServerError):
                raise
            cause = error.__cause__
            if isinstance(cause, ClientError):
                raise self._refusal(cause) from error
            raise unreachable(self.address, error) from error

    @property
    def _who(self) -> str:
        return self.address.options.get("key", "you")

    def _refusal(self, error: ClientError) -> OSError:
        status = int(error.response.get("ResponseMetadata", {}).get("HTTPStatusCode", 0))
        code = str(error.response.get("Error", {}).get("Code", ""))
        if status == 404 or code in ("NoSuchKey", "404"):
            return FileNotFoundError(2, "there is no such object")
        if status == 403:
            return ServerError(13, f"{self.address.server} does not let {self._who} in ({code})")
        return unreachable(self.address, f"{code or status}")

    def listing(self, folder: str) -> tuple[dict[str, int], set[str]]:
        """Return the bytes of each object below a folder, and the folders that their names speak of."""
        lead = self._key("")
        prefix = self._key(folder)
        prefix = prefix + "/" if prefix else ""
        files: dict[str, int] = {}
        folders: set[str] = set()
        token: dict[str, Any] = {}
        while True:
            answer = self._ask("list_objects_v2", Prefix=prefix, **token)
            for item in answer.get("Contents", ()):
                path = item["Key"][len(lead) + 1 :] if lead else item["Key"]
                above = path.rpartition("/")[0]
                while above and above not in folders:
                    folders.add(above)
                    above = above.rpartition("/")[0]
                if path.rpartition("/")[2] not in ("", _KEEPER):
                    files[path] = int(item["Size"])
            if not answer.get("IsTruncated"):
                break
            token = {"ContinuationToken": answer["NextContinuationToken"]}
        if files or folders:
            folders.add(folder)
        return files, folders

    def size(self, path: str) -> int | None:
        """Return the bytes of an object; None if there is none."""
        try:
            return int(self._ask("head_object", Key=self._key(path))["ContentLength"])
        except FileNotFoundError:
            return None

    def read(self, path: str, offset: int = 0) -> Iterator[bytes]:
        """Yield the bytes of an object from a place on, a part at a time."""
        key = self._key(path)
        size = self.size(path)
        if size is None:
            raise FileNotFoundError(2, "there is no such object", path)
        while offset < size:
            end = min(size, offset + _PART)
            piece = self._do(self._fs.cat_file, f"{self._bucket}/{key}", start=offset, end=end)
            if not piece:
                raise unreachable(self.address, "an object ended early")
            yield bytes(piece)
            offset += len(piece)

    def begun(self, path: str) -> int:
        """Return how many bytes of an object were sent in parts before the transfer ended early."""
        upload = self._upload(path)
        return sum(size for _, size, _ in self._parts(path, upload)) if upload else 0

    def _upload(self, path: str) -> str:
        answer = self._ask("list_multipart_uploads", Prefix=self._key(path))
        own = [item for item in answer.get("Uploads", ()) if item["Key"] == self._key(path)]
        return str(own[-1]["UploadId"]) if own else ""

    def _parts(self, path: str, upload: str) -> list[tuple[int, int, str]]:
        """Return number, bytes and tag of the parts that are there, one after the other from the first."""
        found: list[tuple[int, int, str]] = []
        marker: dict[str, Any] = {}
        while True:
            answer = self._ask("list_parts", Key=self._key(path), UploadId=upload, **marker)
            for item in answer.get("Parts", ()):
                if int(item["PartNumber"]) == len(found) + 1 and int(item["Size"]) == _PART:
                    found.append((len(found) + 1, int(item["Size"]), str(item["ETag"])))
            if not answer.get("IsTruncated"):
                return found
            marker = {"PartNumberMarker": answer["NextPartNumberMarker"]}

    def write(self, path: str, chunks: Iterable[bytes], size: int, begun: int = 0) -> None:
        """Write an object; it is there when all of it has come. The server compares the SHA-256 of each part."""
        key = self._key(path)
        if size <= _PART:
            content = b"".join(chunks)
            self._ask("put_object", Key=key, Body=content, ChecksumSHA256=_sha256(content))
            return
        upload = self._upload(path) if begun else ""
        parts = [(number, tag) for number, _, tag in self._parts(path, upload)] if upload else []
        if not upload:
            upload = str(self._ask("create_multipart_upload", Key=key, ChecksumAlgorithm="SHA256")["UploadId"])
        sums: dict[int, str] = {}
        for piece in _in_parts(chunks):
            number = len(parts) + 1
            sums[number] = _sha256(piece)
            answer = self._ask(
                "upload_part", Key=key, UploadId=upload, PartNumber=number, Body=piece, ChecksumSHA256=sums[number]
            )
            parts.append((number, str(answer["ETag"])))
        told: list[dict[str, Any]] = [
            {"PartNumber": number, "ETag": tag} | ({"ChecksumSHA256": sums[number]} if number in sums else {})
            for number, tag in parts
        ]
        if len(sums) < len(parts):  # of parts of an earlier run the sums are what the server has
            known = {
                int(item["PartNumber"]): item.get("ChecksumSHA256")
                for item in self._ask("list_parts", Key=key, UploadId=upload).get("Parts", ())
            }
            for item in told:
                if "ChecksumSHA256" not in item and known.get(item["PartNumber"]):
                    item["ChecksumSHA256"] = known[item["PartNumber"]]
        self._ask("complete_multipart_upload", Key=key, UploadId=upload, MultipartUpload={"Parts": told})

    def create(self, path: str, content: bytes) -> bool:
        """Make a small object; False if there is one."""
        try:
            self._fs.call_s3("put_object", Bucket=self._bucket, Key=self._key(path), Body=content, IfNoneMatch="*")
        except (ClientError, OSError) as error:
            cause = error if isinstance(error, ClientError) else error.__cause__
            if (
                "PreconditionFailed" in str(error)
                or "PreconditionFailed" in str(cause)
                or self.size(path) is not None
            ):
                return False
            raise unreachable(self.address, error) from error
        return True

    def move(self, old: str, new: str) -> None:
        """Have the server copy an object to another name, then remove the old one."""
        size = self.size(old)
        if size is None:
            raise FileNotFoundError(2, "there is no such object", old)
        source = {"Bucket": self._bucket, "Key": self._key(old)}
        if size < _LARGEST_COPY:
            self._ask("copy_object", Key=self._key(new), CopySource=source)
        else:
            self._do(self._fs.copy, f"{self._bucket}/{self._key(old)}", f"{self._bucket}/{self._key(new)}")
        if self.size(new) != size:
            raise unreachable(self.address, "a copy on the server has another size")
        self.remove(old)

    def move_folder(self, old: str, new: str) -> None:
        """Move each object by itself."""
        files, _ = self.listing(old)
        for path in sorted(files):
            self.move(path, new + path[len(old) :])

    def remove(self, path: str) -> None:
        """Remove an object."""
        try:
            self._ask("delete_object", Key=self._key(path))
        except FileNotFoundError:
            pass

    def make_folder(self, path: str) -> None:
        """Do nothing, but for the folders of a chest and of a bag, which must be known to be there."""
        if path == "bags" or path.endswith("/dune/pending"):
            self._ask("put_object", Key=self._key(f"{path}/{_KEEPER}"), Body=b"")

    def remove_folder(self, path: str) -> None:
        """Remove what says that there is a folder, if anything does."""
        self.remove(f"{path}/{_KEEPER}")


def _in_parts(chunks: Iterable[bytes]) -> Iterator[bytes]:
    part = bytearray()
    for piece in chunks:
        part += piece
        while len(part) >= _PART:
            yield bytes(part[:_PART])
            del part[:_PART]
    if part:
        yield bytes(part)


def _sha256(content: bytes) -> str:
    return b64encode(hashlib.sha256(content).digest()).decode()
