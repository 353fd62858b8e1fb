"""This computer's own record of chests, archived libraries, checks, and libraries seen.

`events` appends what happened (it is quick to load and cannot be torn by a crash), `ledger` gathers the events into an
SQLite database and answers questions, `memory` answers the one question that every check asks, and `deeds` holds what
was done to this computer, step by step, so that it can be undone.
"""
