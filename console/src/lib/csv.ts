/** A line of a CSV file (RFC 4180). What a spreadsheet would take for a formula is marked as text. */
export function csvLine(cells: string[]): string {
  const cell = (text: string) => {
    const safe = /^[=+\-@\t\r]/.test(text) && !/^-?\d+(\.\d+)?$/.test(text) ? `'${text}` : text;
    return /[",\n\r]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  return `${cells.map(cell).join(",")}\r\n`;
}
