"""The JSON documents of every command, as plain structs: what is in them, under which name, and their schemas."""
