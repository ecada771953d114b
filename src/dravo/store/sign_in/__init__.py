"""Statements on sign-ins of users: sessions, requests, test sign-ins, traces, keys and settings."""
