"""Requests and responses of the management API, one module for each resource; the OpenAPI document follows
from them.
"""
