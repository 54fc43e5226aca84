/** "820 bytes", "12.4 kB", "3.1 MB": thousands, as files are spoken of. */
export function size(bytes: number): string {
  if (bytes < 1e3) return bytes === 1 ? '1 byte' : `${bytes} bytes`;
  return bytes < 1e6 ? `${(bytes / 1e3).toFixed(1)} kB` : `${(bytes / 1e6).toFixed(1)} MB`;
}
