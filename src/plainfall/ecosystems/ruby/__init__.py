"""Ruby: recognised; its settings are looked after."""
