"""What a clone's source files say of its configuration, found from their syntax trees."""
