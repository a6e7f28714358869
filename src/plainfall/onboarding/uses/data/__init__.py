"""Looking into its data."""
