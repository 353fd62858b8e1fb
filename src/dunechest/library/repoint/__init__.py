"""Update references after a library has gone to another place: what each becomes, and the writing of it."""
