"""What is stored about local users beside their records: passwords and invitations."""
