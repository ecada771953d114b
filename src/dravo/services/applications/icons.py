"""Icons of applications: raster images, drawn again as PNG. Nothing of the uploaded file is served."""

from __future__ import annotations

import hashlib
from io import BytesIO

from PIL import Image, UnidentifiedImageError

from dravo.core.errors import InvalidInput, NotFound
from dravo.services.applications.applications import ApplicationDetail, one
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.provisioning import icons as stored

FORMATS = ("PNG", "JPEG", "WEBP", "GIF")
# The largest file in bytes, the largest picture in pixels, and the edge of the icon.
LARGEST, MOST_PIXELS, EDGE = 500_000, 16_000_000, 128


def draw(image: bytes) -> bytes:
    """Return an image as PNG of at most 128 x 128 pixels, without metadata; of an animation the first frame.

    Raises:
        InvalidInput: for a file that is too large, or that is no raster image.
    """
    if len(image) > LARGEST:
        raise InvalidInput(
            f"The image has {len(image):,} bytes.", f"Use an image of at most {LARGEST:,} bytes.", "image"
        )
    try:
        with Image.open(BytesIO(image), formats=FORMATS) as opened:
            width, height = opened.size
            # Checked before the pixels are unpacked: a small file can have very many.
            if width * height > MOST_PIXELS:
                raise InvalidInput(
                    f"The image has {width:,} x {height:,} pixels.",
                    f"Use an image of at most {MOST_PIXELS:,} pixels.",
                    "image",
                )
            drawn = opened.convert("RGBA")
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError):
        raise InvalidInput(
            "The file is not an image that Dravo can read.", f"Use {', '.join(FORMATS)}.", "image"
        ) from None
    drawn.thumbnail((EDGE, EDGE))
    out = BytesIO()
    drawn.save(out, "PNG", optimize=True)
    return out.getvalue()


def set_icon(ctx: AppContext, caller: Caller, key: str, image: bytes) -> ApplicationDetail:
    """Store the icon of an application.

    Raises:
        NotFound, InvalidInput.
    """
    drawn = draw(image)
    version = hashlib.sha256(drawn).hexdigest()[:16]
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        stored.replace_image(connection, row.id, version, drawn)
        event = AuditEvent("changed icon", "application", row.id, details={"key": key})
        record_change(connection, ctx.keys, caller, clock.now(), event)
    return one(ctx, key)


def remove_icon(ctx: AppContext, caller: Caller, key: str) -> ApplicationDetail:
    """Delete the icon of an application.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        if stored.image_of(connection, row.id) is not None:
            stored.delete_image(connection, row.id)
            event = AuditEvent("deleted icon", "application", row.id, details={"key": key})
            record_change(connection, ctx.keys, caller, clock.now(), event)
    return one(ctx, key)


def read_icon(ctx: AppContext, key: str) -> bytes:
    """Return the icon of an application as PNG.

    Raises:
        NotFound: also for an application without an icon.
    """
    with ctx.database.reading() as connection:
        image = stored.image_of(connection, application_by_key(connection, key).id)
    if image is None:
        raise NotFound(f"'{key}' has no icon.", "Upload an icon first.")
    return image
