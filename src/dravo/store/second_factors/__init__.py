"""Second factors of operators and users: TOTP secrets, recovery codes and passkeys, by owner."""
