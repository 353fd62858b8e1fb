"""The ledger of an office: one PostgreSQL database that many computers tell what they did, and ask what is known.

Each computer works by itself and has its own ledger. `send` brings what is new in it to the office, once, whenever the server
can be reached; `read` says what all computers together know; `files` are lists of files, for searching; `roles` are what
whoever looks after the server does. A computer can add to what it said, and changes nobody else's words.
"""
