"""An office: many computers that tell one ledger what they did, and can ask it what all of them know.

`look_after` is for whoever looks after the server, `join` for a computer; `exchange` sends, `view` asks, `known` makes of the
answer what a status is made of. `membership` says whether there is an office at all, and loads nothing else.
"""
