"""What operators and users do for themselves: second factors, passwords, their applications and requests."""
