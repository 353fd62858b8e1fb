"""How filesystem images are made and mounted."""

from __future__ import annotations

MAKERS = {
    "exfat": (["mkfs.exfat"], ["mount.exfat-fuse"]),
    "ntfs": (["mkfs.ntfs", "-F", "-Q", "-q"], ["ntfs-3g"]),
    "ext4": (["mkfs.ext4", "-q"], ["mount"]),
}
