"""Icons are drawn again as small PNG files, whatever is uploaded."""

from __future__ import annotations

import base64
import struct
import zlib
from io import BytesIO
from typing import Any

import pytest
from PIL import Image, PngImagePlugin

from dravo.core.errors import InvalidInput, NotFound
from dravo.services.applications import applications, icons
from dravo.services.uploads import file_content
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture


def picture(kind: str = "PNG", size: tuple[int, int] = (300, 200), **more: Any) -> bytes:
    out = BytesIO()
    Image.new("RGB", size, "#4c7a3d").save(out, kind, **more)
    return out.getvalue()


@pytest.mark.parametrize("kind", icons.FORMATS)
def test_an_image_becomes_a_png_of_at_most_128_pixels(kind: str) -> None:
    with Image.open(BytesIO(icons.draw(picture(kind)))) as drawn:
        assert (drawn.format, drawn.size, drawn.mode) == ("PNG", (128, 85), "RGBA")
    with Image.open(BytesIO(icons.draw(picture(kind, (20, 20))))) as small:
        assert small.size == (20, 20)


def test_nothing_of_the_uploaded_file_is_kept_beside_its_pixels() -> None:
    notes = PngImagePlugin.PngInfo()
    notes.add_text("Comment", "<script>alert(1)</script>")
    drawn = icons.draw(picture(pnginfo=notes) + b"<script>alert(2)</script>")
    assert b"script" not in drawn and b"Comment" not in drawn


def bomb() -> bytes:
    """Return a PNG of few bytes that claims to have 30,000 x 30,000 pixels."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", 30_000, 30_000, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(bytes(9_999)))


@pytest.mark.parametrize(
    ("image", "words"),
    [
        (b"", "not an image"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'><script/></svg>", "not an image"),
        (picture()[:200], "not an image"),
        (picture("BMP"), "not an image"),
        (b"x" * (icons.LARGEST + 1), "has 500,001 bytes"),
        (bomb(), "pixels|not an image"),
    ],
)
def test_what_is_no_small_raster_image_is_refused(image: bytes, words: str) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        icons.draw(image)
    assert told.value.field == "image" and told.value.hint


def test_base64_and_data_urls_are_read() -> None:
    text = base64.b64encode(b"image").decode()
    assert file_content(text, "image") == file_content(f"data:image/png;base64,{text}", "image") == b"image"
    with pytest.raises(InvalidInput, match="not base64"):
        file_content("no base64!", "image")


def test_an_icon_is_stored_replaced_and_deleted_with_its_application(services: ServiceFixture) -> None:
    services.application("records")
    ctx, caller = services.ctx, services.caller
    with pytest.raises(NotFound, match="has no icon"):
        icons.read_icon(ctx, "records")
    first = icons.set_icon(ctx, caller, "records", picture()).icon
    second = icons.set_icon(ctx, caller, "records", picture(size=(50, 50))).icon
    assert first and second and first != second, "another image has another version"
    assert icons.read_icon(ctx, "records").startswith(b"\x89PNG")
    assert icons.remove_icon(ctx, caller, "records").icon is None
    icons.set_icon(ctx, caller, "records", picture())
    applications.remove(ctx, caller, "records", "Records")
    assert not services.rows(t.application_icon)
