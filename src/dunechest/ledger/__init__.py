"""This computer's own record of chests, archived libraries, checks, and libraries seen.

`events` appends what happened (it cannot be torn by a crash), `gather` moves events into an SQLite database now and then,
`rows` reads both, `ledger` and `memory` answer questions, `catalogue` knows every file on every drive, and `deeds` holds
what was done to this computer, step by step, so that it can be undone.
"""
