"""How somebody is told: mail by SMTP."""
