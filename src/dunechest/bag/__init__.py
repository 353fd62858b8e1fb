"""RFC 8493, the BagIt file packaging format, and nothing else: no library and no chest is known here."""
