"""PHP: recognised; its settings are looked after."""
