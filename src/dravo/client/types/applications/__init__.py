"""Types of applications: settings, accounts, tasks, drift and license plans.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""
