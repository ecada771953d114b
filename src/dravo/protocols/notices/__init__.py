"""How a user is told: mail by SMTP."""
