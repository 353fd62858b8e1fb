"""One module for each open format that holds references: its grammar, its reader and its writer."""
