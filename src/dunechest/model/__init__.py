"""What the JSON document of every command holds, and the schemas of all of them."""
