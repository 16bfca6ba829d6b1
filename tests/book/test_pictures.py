"""Photographs and pages kept in a book: their own bytes, undone and done again, made safe for readers.

What a camera writes into a picture (Exif: orientation, place) follows the Exif standard's tag numbers, from memory.
"""

from __future__ import annotations

import base64
import io
import sqlite3
from pathlib import Path

import pytest
from PIL import Image

from wintry_tally.app.edits import Edits
from wintry_tally.app.pictures import missing, put_in, shown_in, written_out
from wintry_tally.book import Book
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.exchange.picture import PAGE_PX, SMALL_PX, for_page, picture_of, read_picture

PDF = b"%PDF-1.7\n%invented\n"
ORIENTATION, GPS, MODEL = 0x0112, 0x8825, 0x0110


def _photo(width: int = 2000, height: int = 900, turned: int = 6) -> bytes:
    """A JPEG held upright by its camera, its left half red, with the place where it was taken."""
    image = Image.new("RGB", (width, height), "white")
    image.paste((200, 0, 0), (0, 0, width // 2, height))
    exif = Image.Exif()
    exif[ORIENTATION], exif[MODEL] = turned, "a camera"
    exif.get_ifd(GPS)[2] = (60.0, 23.0, 1.0)
    made = io.BytesIO()
    image.save(made, "JPEG", exif=exif)
    return made.getvalue()


@pytest.fixture
def book(tmp_path: Path):
    with Book.create(tmp_path / "p.wintry") as made:
        for code in ("B1", "B2"):
            number = made.samples.add(code, "", "", "lfp")
            made.samples.add_claim(number, parse_claim("40 Ah", "label"))
        yield made


def test_readers_get_it_upright_small_and_without_its_place() -> None:
    content = _photo()
    made = Image.open(io.BytesIO(for_page("a.jpg", content)))
    assert made.size == (PAGE_PX * 900 // 2000, PAGE_PX) and made.format == "JPEG"
    assert dict(made.getexif()) == {} and b"camera" not in for_page("a.jpg", content)
    # turned a quarter clockwise: what was left stands on top
    top, below = made.getpixel((300, 100)), made.getpixel((300, PAGE_PX - 100))
    assert top[0] > 180 and top[1] < 30 and min(below) > 240  # type: ignore[index,type-var,operator]
    small = Image.open(io.BytesIO(picture_of("a.jpg", content).small))
    assert max(small.size) == SMALL_PX
    # what is clear in a PNG is white on a page, and nothing is made larger than it is
    clear = io.BytesIO()
    Image.new("RGBA", (30, 20), (0, 0, 0, 0)).save(clear, "PNG")
    shown = Image.open(io.BytesIO(for_page("c.png", clear.getvalue())))
    assert shown.size == (30, 20) and min(shown.getpixel((5, 5))) > 250  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "no picture that can be shown"), (b"GIF89a" + b"\0" * 40, "no picture that can be shown"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "no picture that can be shown"),
        (_photo()[:4000], "cannot be read"), (b"\x89PNG\r\n\x1a\n" + b"\0" * 50, "picture"),
    ],
)  # fmt: skip
def test_what_is_no_picture_is_refused_in_a_line(content: bytes, words: str, tmp_path: Path) -> None:
    (tmp_path / "x.jpg").write_bytes(content)
    with pytest.raises(InputError, match=words):
        read_picture(tmp_path / "x.jpg")


def test_a_picture_that_unpacks_to_gigabytes_is_not_unpacked(tmp_path: Path) -> None:
    bomb = io.BytesIO()
    Image.new("1", (30_000, 30_000)).save(bomb, "PNG", compress_level=1)
    assert len(bomb.getvalue()) < 1_000_000
    with pytest.raises(InputError, match=r"picture cannot be read|points"):
        picture_of("bomb.png", bomb.getvalue())
    with pytest.raises(InputError, match="no such file"):
        read_picture(tmp_path / "none.jpg")
    with pytest.raises(InputError, match="directory"):
        read_picture(tmp_path)


def test_kept_shown_removed_and_back_with_its_own_bytes(book: Book, tmp_path: Path) -> None:
    content = _photo(300, 200)
    (tmp_path / "label.jpg").write_bytes(content)
    (tmp_path / "page.pdf").write_bytes(PDF)
    edits, told = Edits(book), book.feed
    number = put_in(book, 1, tmp_path / "label.jpg", "label")
    assert book.attachments.of(1) == []  # nothing is seen before the edit is made
    edit = edits.show_picture(number, "label.jpg")
    edit.do()
    (one,) = book.attachments.of(1)
    assert (one.name, one.kind, one.media, one.size, one.words) == (
        "label.jpg",
        "label",
        "image/jpeg",
        len(content),
        "Label",
    )
    assert book.attachments.content(number) == content == written_out(book, number, one.media).read_bytes()
    edit.undo()
    assert book.attachments.of(1) == []
    edit.do()
    said = edits.set_picture(one, "a caption", caption="As it came", kind="case")
    assert said is not None and edits.set_picture(one, "nothing", kind="label") is None
    said.do()
    assert book.attachments.of(1)[0].words == "As it came" and book.attachments.kinds() == {1: {"case"}}
    said.undo()
    assert book.attachments.of(1) == [one]
    with pytest.raises(InputError, match="no kind"):
        edits.set_picture(one, "x", kind="cat").do()  # type: ignore[union-attr]
    with pytest.raises(InputError, match="caption"):
        book.attachments.change(number, caption="x" * 501)
    put_in(book, 1, tmp_path / "page.pdf", "manual", shown=True)
    label, page = shown_in(book, 1)
    assert label.source.startswith("data:image/jpeg;base64,") and label.instead == ""
    assert Image.open(io.BytesIO(base64.b64decode(label.source.partition(",")[2]))).size == (200, 300)
    assert page.source == "" and page.instead == "page.pdf, kept in the book" and page.caption == "Manual's page"
    edits.remove_picture(one).do()
    assert [found.name for found in book.attachments.of(1)] == ["page.pdf"] and told is book.feed


def test_damaged_bytes_are_told_and_no_report_fails_by_them(book: Book, tmp_path: Path) -> None:
    (tmp_path / "label.jpg").write_bytes(_photo(300, 200))
    number = put_in(book, 1, tmp_path / "label.jpg", "label", shown=True)
    with sqlite3.connect(book.path) as connection:
        connection.execute("update attachment set content = x'00' where id = ?", (number,))
    with pytest.raises(WintryError, match="damaged in the book"):
        book.attachments.content(number)
    (shown,) = shown_in(book, 1)
    assert "damaged" in shown.instead and shown.source == ""
    with pytest.raises(WintryError, match="no picture 99"):
        book.attachments.content(99)


def test_only_what_others_have_is_missed(book: Book) -> None:
    samples = book.samples.all()
    assert missing(samples, {}, {}) == {}
    assert missing(samples, {}, {1: {"label"}}) == {2: "label"}
    assert missing(samples, {}, {1: {"case"}, 2: {"label"}}) == {1: "label"}
    assert missing(samples, {}, {1: {"label"}, 2: {"label", "inside"}}) == {}


def test_from_a_shell_and_into_the_report(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path, photo, out = tmp_path / "b.wintry", tmp_path / "me ter.png", tmp_path / "r.html"
    with Book.create(path) as made:
        made.samples.add_claim(made.samples.add("B1", "", "", "lfp"), parse_claim("40 Ah", "label"))
    Image.new("RGB", (50, 40), "blue").save(photo)
    words = "12.9 V <at> the end"
    assert invoke(["attach", str(path), "B1", str(photo), "--kind", "meter", "--caption", words]) == 0
    assert capsys.readouterr().out == f"meter    me ter.png (0.0 MB) {words}\n"
    assert invoke(["attach", str(path), "B1", "--json"]) == 0
    assert '"media": "image/png"' in capsys.readouterr().out
    for wrong, said in (
        (["B9"], "B9"),
        (["B1", str(path)], "no picture"),
        (["B1", str(photo), "--kind", "cat"], "no kind"),
    ):
        assert invoke(["attach", str(path), *wrong]) == 2
        assert said in capsys.readouterr().err
    assert invoke(["report", str(path), "B1", "--out", str(out)]) == 0
    page = out.read_text()
    assert "12.9 V &lt;at&gt; the end" in page and page.count("data:image/jpeg;base64,") == 1
    assert invoke(["report", str(path), "B1", "--out", str(tmp_path)]) == 2 and not list(tmp_path.glob("*.part"))
    assert not list(tmp_path.parent.glob("*.part"))
