"""Node: from versions to packages in their places."""
