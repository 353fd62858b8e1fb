"""Chests on servers that speak SFTP, WebDAV or the S3 protocol.

`address` reads where; `store` is what can be done there, one module a protocol; `place` is what the jobs of the workers ask for
(`dunechest.transfer.elsewhere`); `stand_in` keeps the folder on this computer that stands in for the chest; `hold` keeps two
computers from changing it at once.
"""
