/** Rows as a file for spreadsheets: RFC 4180, and cells that begin like a formula are made harmless. */
export function csv(rows: readonly (readonly (string | number)[])[]): string {
  return rows.map((row) => `${row.map(cell).join(",")}\r\n`).join("");
}

function cell(value: string | number): string {
  const text = typeof value === "string" && /^[=+\-@\t\r]/.test(value) ? `'${value}` : String(value);
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

/** Has the browser keep a text as a file. */
export function download(name: string, type: string, parts: BlobPart[]): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob(parts, { type }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
