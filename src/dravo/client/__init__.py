"""The Python client library: the management API as calls that read like the work. HTTP only.

from dravo.client import Dravo

dravo = Dravo("http://127.0.0.1:8420", token)
for user in dravo.users.list(words="marlow"):
    print(user["display_name"], user["state"])
print(*dravo.users.why("p.marlow", "plant-records")["sentences"], sep="\\n")
"""

from dravo.client.client import Dravo
from dravo.client.errors import (
    ApiError,
    AuthenticationRequired,
    Conflict,
    InvalidRequest,
    NotAllowed,
    NotFound,
    ServiceUnreachable,
    TryAgainLater,
)
from dravo.client.pages import Page, Pages

__all__ = [
    "ApiError",
    "AuthenticationRequired",
    "Conflict",
    "Dravo",
    "InvalidRequest",
    "NotAllowed",
    "NotFound",
    "Page",
    "Pages",
    "ServiceUnreachable",
    "TryAgainLater",
]
