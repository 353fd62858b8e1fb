"""Endings of files by what is in them: what is neither text nor a database, and what is a program's source."""

from __future__ import annotations

# fmt: off
#: Pictures, recordings, films, archives, documents of offices, programs: no text, and none that names other files openly.
BINARY = frozenset({
    ".jpg", ".jpeg", ".png", ".gif", ".tif", ".tiff", ".webp", ".heic", ".heif", ".avif", ".bmp", ".ico", ".psd",
    ".dng", ".nef", ".cr2", ".cr3", ".arw", ".orf", ".rw2", ".raf", ".mp3", ".flac", ".ogg", ".opus", ".oga", ".wav",
    ".aif", ".aiff", ".m4a", ".aac", ".wma", ".mid", ".mp4", ".m4v", ".mov", ".mkv", ".avi", ".webm", ".mpg", ".mpeg",
    ".mts", ".pdf", ".epub", ".djvu", ".eps", ".zip", ".gz", ".bz2", ".xz", ".zst", ".7z", ".tar", ".tgz", ".rar",
    ".jar", ".iso", ".img", ".dmg", ".exe", ".dll", ".so", ".dylib", ".o", ".a", ".class", ".pyc", ".pyo", ".wasm",
    ".woff", ".woff2", ".ttf", ".otf", ".doc", ".docx", ".xls", ".xlsx", ".ppt", ".pptx", ".odt", ".ods", ".odp",
    ".gpg", ".pack", ".idx", ".rev", ".part",
})
#: Texts that a program is made of, or that one writes: what they name they name in their own ways.
SOURCE = frozenset({
    ".py", ".js", ".ts", ".c", ".h", ".cc", ".cpp", ".hpp", ".rs", ".go", ".java", ".rb", ".pl", ".sh", ".php",
    ".swift", ".kt", ".scala", ".r", ".m", ".sql", ".csv", ".tsv", ".log", ".pem", ".key", ".crt", ".lock", ".bak",
    ".tmp", ".eml", ".ps",
})
# fmt: on


def ending(path: str) -> str:
    """Return the ending of a path in small letters, with its dot."""
    dot = path.rfind(".")
    # What begins with its only dot has none.
    return path[dot:].lower() if dot > path.rfind("/") + 1 else ""
