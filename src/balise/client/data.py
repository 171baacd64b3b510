"""Everything that a console keeps: its sizes, copies and exports."""

from __future__ import annotations

from balise.api.data import Backup, DataAnswer, Export, ExportBody, NewBackup
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Data(Noun):
    """What everything takes, backups, and exports."""

    def show(self) -> DataAnswer:
        """What everything takes by kind, how it grows, what it will be, and what is at work.

        >>> [size.kind for size in balise.data.show().sizes][:2]
        ['points', 'rollups']
        """
        return self._connection.get(DataAnswer, "/data")

    def back_up(self, name: str | None = None) -> Backup:
        """Begins a copy of everything into a folder of the console's machine.

        >>> balise.data.back_up("before the upgrade").state
        'under way'
        """
        return self._connection.send(Backup, "POST", "/data/backups", NewBackup(name=name))

    def exports(self) -> Items[Export]:
        """Exports that the console does by itself.

        >>> balise.data.exports()
        []
        """
        return self._connection.items(Export, "/exports")

    def export(self, name: str) -> Export:
        """One of them.

        >>> balise.data.export("lake")
        Traceback (most recent call last):
        balise.client.errors.Refused: There is no export 'lake'.
        """
        return self._connection.get(Export, f"/exports/{quoted(name)}")

    def put_export(self, name: str, body: ExportBody) -> Export:
        """Writes history as Parquet into a folder of the console's machine, once, or on and on.

        >>> balise.data.put_export("lake", ExportBody(what=["events"], follow=True)).follow
        True
        """
        return self._connection.send(Export, "PUT", f"/exports/{quoted(name)}", body)

    def delete_export(self, name: str, *, files: bool = False) -> str:
        """Exports no more under this name; with `files`, what was exported goes too.

        >>> balise.data.delete_export("lake", files=True)
        'export lake deleted: so is what it wrote'
        """
        return self._connection.note("DELETE", f"/exports/{quoted(name)}", files=files)
