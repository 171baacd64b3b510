"""Files of the web console that keep their names."""

from __future__ import annotations

from pathlib import Path

from fastapi import Request

from balise.front.topfiles import KEPT_A_WHILE, TopFile


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


def test_what_is_fit_for_the_next_version_is_kept_a_while(tmp_path: Path) -> None:
    path = tmp_path / "theme-init.js"
    path.write_text("1")
    kept = TopFile(path, KEPT_A_WHILE)
    first = kept.answer(asking())
    assert first is not None and first.headers["cache-control"] == "max-age=600"
    again = kept.answer(asking(first.headers["etag"]))
    assert again is not None and (again.status_code, again.headers["cache-control"]) == (304, "max-age=600")
