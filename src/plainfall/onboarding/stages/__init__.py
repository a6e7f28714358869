"""One module per stage (or a few that belong together): each function carries out one step."""
