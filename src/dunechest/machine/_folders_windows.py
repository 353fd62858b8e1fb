"""Windows: where the system itself has a person's folders; they, or a service that keeps them in step, can have moved them."""

from __future__ import annotations

import ctypes
import sys

_TOKEN_QUERY = 0x0008


def profile() -> str:
    """Return the home folder that the system has for the person of this process; empty if it does not say.

    See ``GetUserProfileDirectoryW`` in <userenv.h>. The environment may name another one, which is then meant to be used.
    """
    if sys.platform != "win32":
        return ""
    try:
        kernel, security, environment = ctypes.WinDLL("kernel32"), ctypes.WinDLL("advapi32"), ctypes.WinDLL("userenv")
        kernel.GetCurrentProcess.restype = ctypes.c_void_p
        token = ctypes.c_void_p()
        process = ctypes.c_void_p(kernel.GetCurrentProcess())
        if not security.OpenProcessToken(process, _TOKEN_QUERY, ctypes.byref(token)):
            return ""
        try:
            length = ctypes.c_uint32(1024)
            text = ctypes.create_unicode_buffer(length.value)
            done = environment.GetUserProfileDirectoryW(token, text, ctypes.byref(length))
            return text.value if done else ""
        finally:
            kernel.CloseHandle(token)
    except (OSError, AttributeError):
        return ""


def asked() -> dict[str, str]:
    """Return the folders that the system knows by name: pictures, music, videos, documents and desktop."""
    import platformdirs

    return {
        "pictures": platformdirs.user_pictures_dir(),
        "music": platformdirs.user_music_dir(),
        "videos": platformdirs.user_videos_dir(),
        "documents": platformdirs.user_documents_dir(),
        "desktop": platformdirs.user_desktop_dir(),
    }
