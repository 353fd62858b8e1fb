"""One module a view: results in words, and as the one JSON document."""
