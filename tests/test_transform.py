"""Transforms and patches as bytes and as overlays: what is written is read back, and what is damaged is refused with the place."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from specimens import Specimen

from yendo.demo.vendor import guid
from yendo.errors import Unreadable
from yendo.formats import cfb
from yendo.formats.msi import Column, Database, DatabaseWriter, Summary, names, overlay, patch, transform
from yendo.formats.msi.edit import DoesNotFit, Edits
from yendo.formats.msi.overlay import Overlay, difference
from yendo.formats.msi.transform import HeldStream, TableChange, Transform
from yendo.installers.msi import fitting

COLUMNS = ["Key! s40", "Part! I2", "Text L0", "Small I2", "Large I4", "Blob V0"]
PARSED = [Column.parse(text) for text in COLUMNS]


def database(
    rows: list[tuple[Any, ...]],
    *,
    tables: dict[str, list[tuple[Any, ...]]] | None = None,
    code_page: int = 1252,
    **streams: bytes,
) -> Database:
    writer = DatabaseWriter(code_page=code_page, summary=Summary(template="x64;1033", revision=guid("base")))
    writer.table("Thing", COLUMNS, rows)
    for name, more in (tables or {}).items():
        writer.table(name, ["Id! i4", "Note S50"], more)
    for name, data in streams.items():
        writer.stream(name.replace("__", "."), data)
    out = io.BytesIO()
    writer.write(out)
    return Database(io.BytesIO(out.getvalue()))


def written(found: Transform, base: Database) -> Transform:
    out = io.BytesIO()
    transform.write(found, out)
    return transform.read(io.BytesIO(out.getvalue()), base)


def rows_of(base: Database, table: str = "Thing") -> dict[Any, Any]:
    return {base[table].key_of(cells): cells for cells in base[table].cells}


text = st.text(st.characters(codec="cp1252", exclude_characters="\0"), min_size=1, max_size=12)
row = st.tuples(text, st.none() | st.integers(-0x7FFF, 0x7FFF), st.none() | text, st.none() | st.integers(-0x7FFF, 0x7FFF),
                st.none() | st.integers(-0x7FFFFFFF, 0x7FFFFFFF), st.none())  # fmt: skip
table = st.lists(row, max_size=12, unique_by=lambda cells: cells[:2])


@settings(max_examples=150)
@given(table, table)
def test_a_difference_makes_the_second_of_the_first(before: list[Any], after: list[Any]) -> None:
    """For any two tables: difference, write, read, apply gives the second, and nothing is without a target."""
    with database(before) as one, database(after) as two:
        found = written(difference(one, two), one)
        laid = Overlay(one, [found])
        assert rows_of(laid) == rows_of(two) and not laid.problems
        assert found.tables.keys() <= {"Thing"} and bool(found.tables) == (rows_of(one) != rows_of(two))


@settings(max_examples=60)
@given(st.dictionaries(st.tuples(text, st.integers(1, 9)), st.none() | st.tuples(text, st.integers(1, 99)), max_size=8))
def test_records_come_back_as_they_were_written(records: dict[Any, Any]) -> None:
    """Inserts, updates and deletes, each in the form it had."""
    change = TableChange(list(PARSED))
    for at, (key, cells) in enumerate(records.items()):
        if cells is None:
            change.deleted.append(key)
        elif at % 2:
            change.updated[key] = {"Text": cells[0], "Large": cells[1]}
        else:
            change.inserted[key] = (*key, *cells, None, None)
    with database([]) as base:
        found = written(Transform({"Thing": change} if change else {}), base).tables.get("Thing", TableChange([]))
    assert (
        found.inserted == change.inserted
        and found.updated == change.updated
        and sorted(found.deleted, key=str) == sorted(change.deleted, key=str)
    )


def test_tables_columns_and_streams() -> None:
    """New and dropped tables, a column more, a stream of a row, and a cabinet whose name is taken."""
    rows = [("a", 1, "x", 2, 3, None)]
    with database(rows, tables={"Gone": [(1, "one")], "Media": []}, lantern__cab=b"old") as one:
        writer = DatabaseWriter()
        writer.table("Thing", [*COLUMNS, "More S20"], [("a", 1, "x", 2, 3, 1, "new")])
        writer.table("Come", ["Id! i4", "Note S50"], [(7, "seven")])
        writer.table("Media", ["DiskId! i2", "LastSequence i4", "DiskPrompt L64", "Cabinet S255", "VolumeLabel S32", "Source S72"],
                     [(1, 1, None, "#lantern.cab", None, None)])  # fmt: skip
        writer.stream("Thing.a.1", b"blob")
        writer.stream("lantern.cab", b"new")
        out = io.BytesIO()
        writer.write(out)
        one.schema["Media"] = [
            Column.parse(part)
            for part in (
                "DiskId! i2",
                "LastSequence i4",
                "DiskPrompt L64",
                "Cabinet S255",
                "VolumeLabel S32",
                "Source S72",
            )
        ]
        with Database(io.BytesIO(out.getvalue())) as two:
            found = written(difference(one, two), one)
            assert found.tables["Gone"].dropped and found.tables["Come"].created and found.tables["Thing"].added == 1
            laid = Overlay(one, [found])
            assert (
                rows_of(laid) == {("a", 1): ("a", 1, "x", 2, 3, 1, "new")}
                and "Gone" not in laid
                and laid["Come"].find(7)["Note"] == "seven"
            )
            assert laid.stream("Thing.a.1").read() == b"blob"
            (medium,) = laid["Media"]
            assert (
                medium["Cabinet"] == "#lantern.cab-2"
                and laid.stream("lantern.cab-2").read() == b"new"
                and laid.stream("lantern.cab").read() == b"old"
            )


def test_a_table_whose_columns_were_exchanged_is_refused() -> None:
    writer = DatabaseWriter()
    writer.table("Thing", ["Key! s40", "Other I2"], [("a", 1)])
    out = io.BytesIO()
    writer.write(out)
    with (
        database([]) as one,
        Database(io.BytesIO(out.getvalue())) as two,
        pytest.raises(Unreadable, match="Thing has other columns"),
    ):
        difference(one, two)


def test_databases_of_other_columns_are_compared_all_the_same() -> None:
    writer = DatabaseWriter()
    writer.table("Thing", ["Key! s40", "Part! I2", "Large I4", "Extra S9"], [("a", 1, 3, "x"), ("b", 1, 5, None)])
    out = io.BytesIO()
    writer.write(out)
    with (
        database([("a", 1, "text", 2, 3, None), ("b", 1, "text", 2, 4, None)]) as one,
        Database(io.BytesIO(out.getvalue())) as two,
    ):
        found = difference(one, two, to_apply=False).tables["Thing"]
        assert (
            found.updated == {("a", 1): {"Extra": "x"}, ("b", 1): {"Large": 5}}
            and not found.inserted
            and not found.deleted
        )


def test_what_has_no_target_is_told() -> None:
    change = TableChange(
        list(PARSED),
        inserted={("a", 1): ("a", 1, None, None, None, None)},
        updated={("b", 1): {"Text": "t"}},
        deleted=[("c", 1)],
    )
    lost = TableChange([Column.parse("Id! i4")], deleted=[(1,)])
    with database([("a", 1, "x", 2, 3, None)]) as base:
        laid = Overlay(
            base, [Transform({"Thing": change, "Nowhere": lost, "Thing2": TableChange(list(PARSED), dropped=True)})]
        )
        assert [(problem.kind, problem.table) for problem in laid.problems] == [
            ("row to delete is missing", "Thing"), ("row to change is missing", "Thing"), ("row exists already", "Thing"),
            ("table is missing", "Nowhere"), ("table is missing", "Thing2")]  # fmt: skip
        assert str(laid.problems[0]) == "Thing[c,1]: row to delete is missing"


def raw(**streams: bytes) -> io.BytesIO:
    """A transform's file with tables as given bytes, and the texts one, two, three."""
    from yendo.formats.msi.strings import PoolWriter

    pool = PoolWriter()
    for word in ("Thing", "one", "two"):
        pool.add(word)
    texts, data = pool.encode()
    tables = {"_StringPool": texts, "_StringData": data, **streams}
    out = io.BytesIO()
    cfb.write(out, cfb.Storage({names.encode(name, table=True): blob for name, blob in tables.items()}))
    return io.BytesIO(out.getvalue())


@pytest.mark.parametrize(("data", "said"), [
    (b"\0", "half a record at byte 0"),
    (b"\0\0\2", "a record ends at byte 4 of 3"),
    (b"\1\x09" + bytes(20), "a row of 9 cells for 6 columns"),
    (b"\0\0\x77\0\1\x80", "string 119 of 3"),
    (b"\x04\0\2\0\1\x80", "a record ends at byte 8 of 6"),
])  # fmt: skip
def test_damaged_records(data: bytes, said: str) -> None:
    """A table that cannot be read is told apart; the rest of the transform is still told."""
    with database([]) as base:
        found = transform.read(raw(Thing=data), base)
        assert said in found.undecoded["Thing"] and not found.tables
        fit = fitting.fit(base, found)
        assert not fit.fits and "no target" in fit.in_words


def test_not_a_transform_at_all(tmp_path: Path) -> None:
    out = io.BytesIO()
    cfb.write(out, cfb.Storage({"something": b"else"}))
    with database([]) as base:
        with pytest.raises(Unreadable, match="no string pool"):
            transform.read(io.BytesIO(out.getvalue()), base)
        with pytest.raises(Unreadable, match="code page 4711"):
            found = Transform({"Thing": TableChange(list(PARSED), deleted=[("a", 1)])})
            blob = io.BytesIO()
            transform.write(found, blob)
            bad = bytearray(blob.getvalue())
            at = bad.index(b"\xe4\x04\0\0\1\0\1\0")  # the pool's head: code page 1252, then a text of one letter
            bad[at : at + 2] = (4711).to_bytes(2, "little")
            transform.read(io.BytesIO(bytes(bad)), base)
        found = transform.read(raw(Unknown=b"\0\0\1\0"), base)
        assert "which columns it has" in found.undecoded["Unknown"]


@settings(max_examples=120)
@given(st.binary(max_size=60), st.binary(max_size=40), st.binary(max_size=40))
def test_any_bytes_are_read_or_refused(data: bytes, tables: bytes, columns: bytes) -> None:
    with database([]) as base:
        try:
            found = transform.read(raw(Thing=data, _Tables=tables, _Columns=columns), base)
        except Unreadable:
            return
        Overlay(base, [found])


def test_what_a_transform_cannot_say_is_refused() -> None:
    wide = [Column.parse("Key! s9"), *(Column.parse(f"C{at} I2") for at in range(20))]
    change = TableChange(wide, updated={("a",): {"C18": 1}})
    with pytest.raises(ValueError, match="column 20"):
        transform.write(Transform({"Wide": change}), io.BytesIO())
    with pytest.raises(ValueError, match="code page 1252"):
        transform.write(Transform({"Thing": TableChange(list(PARSED), deleted=[("\u4e00", 1)])}), io.BytesIO())


def test_many_strings_take_three_bytes() -> None:
    change = TableChange(list(PARSED))
    for at in range(70_000):
        change.inserted[(f"k{at}", 1)] = (f"k{at}", 1, None, None, None, None)
    with database([]) as base:
        found = written(Transform({"Thing": change}), base)
        assert found.tables["Thing"].inserted == change.inserted


def test_a_copy_has_everything(tmp_path: Path) -> None:
    """Rows, streams, storages and the summary; a signature is left out and said."""
    specimen = Specimen("copied").with_file()
    path = specimen.ours(tmp_path)
    with Database(path) as base:
        out = io.BytesIO()
        assert overlay.write(base, out, revision=guid("new")) is False
        with Database(io.BytesIO(out.getvalue())) as copy:
            assert (
                not difference(base, copy).tables
                and copy.summary.revision == guid("new")
                and copy.summary.template == base.summary.template
            )
            assert copy.stream("media.cab").read() == base.stream("media.cab").read()
        base.streams["\x05DigitalSignature"] = HeldStream(b"signed")  # type: ignore[assignment]
        out = io.BytesIO()
        assert overlay.write(base, out) is True
        with Database(io.BytesIO(out.getvalue())) as copy:
            assert "\x05DigitalSignature" not in copy.streams


# --- patches ------------------------------------------------------------------------------------------------


def test_a_patch_comes_back(vendor: Path) -> None:
    with (
        patch.Patch(vendor / "lantern-6.2.3.msp") as found,
        Database(vendor / "lantern-6.2.1.msi") as base,
        Database(vendor / "lantern-6.1.0.msi") as other,
    ):
        assert (
            found.names == ("Old2New", "#Old2New")
            and found.families[0].supersedes
            and found.metadata["AllowRemoval"] == "1"
        )
        assert (
            found.targets == (fitting.facts(base)["ProductCode"],)
            and found.replaces == ()
            and list(found.cabinets) == ["PCAB"]
        )
        after = fitting.patched(base, found)
        assert (
            after is not None
            and not after.problems
            and fitting.facts(after)["ProductVersion"] == "6.2.3"
            and after.stream("PCAB") is not None
        )
        assert fitting.kind_of_update(base, found) == "minor update"
        misfit = fitting.fit_patch(other, found)
        assert not misfit.fits and "it is for" in misfit.reasons[0] and fitting.patched(other, found) is None
        assert "wants version == 6.2.1, this is 6.2.3" in fitting.fit_patch(after, found).reasons[0]
        with pytest.raises(Unreadable, match="does not hold"):
            found.transform("Nowhere", base)


def test_a_database_is_no_patch(vendor: Path) -> None:
    with patch.Patch(vendor / "lantern-6.2.1.msi") as found:
        assert found.names == () and not fitting.fit_patch(found, found).fits


# --- row edits ----------------------------------------------------------------------------------------------


def test_edits_are_seen_at_once_and_kept_small() -> None:
    """Rows are read with the edits so far; what is taken back, or changed to what it was, leaves no change."""
    with database([("a", 1, "x", 2, 3, None), ("b", 1, "y", 2, 3, None)]) as base:
        edits = Edits(base)
        edits.update("Thing", ("a", 1), Text="z", Small=2)
        edits.insert("Thing", Key="c", Part=1, Text="new")
        edits.update("Thing", ("c", 1), Large=9)
        assert edits.tables["Thing"].updated == {("a", 1): {"Text": "z"}}
        assert [row["Key"] for row in edits.rows("Thing", Part=1)] == ["b", "a", "c"] and edits.row("Thing", "c", 1)[
            "Large"
        ] == 9  # type: ignore[index]
        assert [row["Key"] for row in edits.rows("Thing", Text="z")] == ["a"] and not edits.rows("Thing", Text="x")
        edits.delete("Thing", ("c", 1))
        edits.delete("Thing", ("a", 1))
        assert (
            edits.row("Thing", "a", 1) is None
            and edits.tables["Thing"].deleted == [("a", 1)]
            and not edits.tables["Thing"].updated
        )
        edits.insert("Thing", Key="a", Part=1, Text="again")
        assert not edits.tables["Thing"].deleted and edits.row("Thing", "a", 1)["Text"] == "again"  # type: ignore[index]
        assert not Overlay(base, [Transform(edits.tables)]).problems
        edits.insert("Media", DiskId=1, LastSequence=1)
        assert edits.tables["Media"].created
        with pytest.raises(DoesNotFit, match="has 41 characters, the column takes 40") as caught:
            edits.insert("Thing", Key="k" * 41, Part=1)
        assert caught.value.remedy == "shorten it"
