const TAKEN_MS = 60_000;

/** Save text as a file on the observer's machine. */
export function saveText(name: string, text: string, type: string): void {
  const link = document.createElement("a");
  link.download = name;
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.click();
  // The browser reads it after the click.
  setTimeout(() => URL.revokeObjectURL(link.href), TAKEN_MS);
}
