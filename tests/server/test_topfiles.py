"""Files of the web console that keep their names."""

from __future__ import annotations

from pathlib import Path

from fastapi import Request

from balise.server.topfiles import TopFile


def asking(tag: str = "") -> Request:
    headers = [(b"if-none-match", tag.encode())] if tag else []
    return Request({"type": "http", "method": "GET", "path": "/", "headers": headers})


def test_a_file_is_told_once_and_again_when_it_was_written_anew(tmp_path: Path) -> None:
    path = tmp_path / "index.html"
    file = TopFile(path)
    assert file.answer(asking()) is None
    path.write_text("<p>one")
    first = file.answer(asking())
    assert first is not None and first.body == b"<p>one"
    assert first.headers["content-type"] == "text/html; charset=utf-8"
    assert first.headers["cache-control"] == "no-cache"
    tag = first.headers["etag"]
    for has in (tag, f"W/{tag}", f'"other", {tag}'):
        again = file.answer(asking(has))
        assert again is not None and (again.status_code, again.body) == (304, b"")
    path.write_text("<p>another")
    other = file.answer(asking(tag))
    assert other is not None and (other.status_code, other.body) == (200, b"<p>another")
    path.unlink()
    assert file.answer(asking(tag)) is None
