"""From an address or an archive to a clone: what people have before they have a folder."""
