"""Source policies: shown, previewed on stored records and changed, alike for every connection type."""
