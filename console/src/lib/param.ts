/** A part of the address as it was meant: "Public%20holidays" is "Public holidays". */
export function param(text: string | undefined): string {
  try {
    return decodeURIComponent(text ?? '');
  } catch {
    return text ?? ''; // a lone percent sign
  }
}
