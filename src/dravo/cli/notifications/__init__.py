"""Commands for notifications, webhooks and email."""
