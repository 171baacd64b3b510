"""Files of the web console that never change."""

from __future__ import annotations

import gzip
from pathlib import Path

import pytest
from starlette.requests import Request
from starlette.responses import Response

from balise.front.assetfiles import AssetFiles


def asked(files: AssetFiles, name: str, takes: str = "gzip, br") -> Response:
    scope = {"type": "http", "method": "GET", "path": "/", "headers": [(b"accept-encoding", takes.encode())]}
    found = files.answer(name, Request(scope))
    assert found is not None
    return found


def test_a_file_comes_packed_to_those_who_take_that_and_is_read_once(tmp_path: Path) -> None:
    words = b"export const ferry = 1;\n" * 200
    (tmp_path / "page-x1.js").write_bytes(words)
    (tmp_path / "mark-x2.woff2").write_bytes(bytes(range(200)))
    files = AssetFiles(tmp_path)
    packed = asked(files, "page-x1.js")
    assert packed.headers["content-encoding"] == "gzip" and packed.headers["vary"] == "Accept-Encoding"
    assert packed.headers["content-type"].startswith("text/javascript")
    assert gzip.decompress(bytes(packed.body)) == words and len(packed.body) < len(words) / 10
    plain = asked(files, "page-x1.js", "identity")
    assert "content-encoding" not in plain.headers and plain.body == words
    assert "content-encoding" not in asked(files, "mark-x2.woff2").headers
    (tmp_path / "page-x1.js").unlink()
    assert asked(files, "page-x1.js", "").body == words


def test_no_more_is_held_than_may_be(tmp_path: Path) -> None:
    for name in ("a.bin", "b.bin"):
        (tmp_path / name).write_bytes(bytes(range(256)) * 4)
    files = AssetFiles(tmp_path, most=1500)
    for name in ("a.bin", "b.bin"):
        asked(files, name)
        (tmp_path / name).unlink()
    assert asked(files, "a.bin", "").body == bytes(range(256)) * 4
    with pytest.raises(AssertionError):
        asked(files, "b.bin")


@pytest.mark.parametrize("name", ["none.js", "..", ".", "", "../secret.key", "\x00", "x" * 300, "link.js", "inner"])
def test_nothing_else_is_a_file(tmp_path: Path, name: str) -> None:
    (tmp_path / "secret.key").write_bytes(b"secret")
    folder = tmp_path / "assets"
    (folder / "inner").mkdir(parents=True)
    (folder / "link.js").symlink_to(tmp_path / "secret.key")
    assert AssetFiles(folder).answer(name, Request({"type": "http", "headers": []})) is None
