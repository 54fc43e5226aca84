// Settings of a destination as the fields of a form write them.
import type { Setting } from './api';

/** The name of a setting for people: "Client ID" of client_id. */
export function settingLabel(name: string): string {
  if (name === 'conns') return 'Connections';
  const words = name
    .split('_')
    .map((w) => (['url', 'ca', 'id', 'tls'].includes(w) ? w.toUpperCase() : w))
    .join(' ');
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/** The text in the field of a setting: a list has a line for each, pairs have lines of "name: value". */
export function settingText(value: unknown): string {
  if (value === undefined || value === null) return '';
  if (Array.isArray(value)) return value.join('\n');
  if (typeof value === 'object')
    return Object.entries(value)
      .map(([name, text]) => `${name}: ${String(text)}`)
      .join('\n');
  return String(value);
}

/** The value of a setting that was written as a text; undefined when it is left out. */
export function settingValue(setting: Pick<Setting, 'form'>, text: string): unknown {
  if (text.trim() === '') return undefined;
  const lines = text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean);
  switch (setting.form) {
    case 'number':
      // What is no number goes to the service as it is, which says so.
      return Number.isFinite(Number(text)) ? Number(text) : text;
    case 'list':
      return lines;
    case 'pairs':
      return Object.fromEntries(
        lines.map((line) => {
          const at = line.indexOf(':');
          return at < 0 ? [line, ''] : [line.slice(0, at).trim(), line.slice(at + 1).trim()];
        }),
      );
    case 'block':
      return text;
    case 'yes/no':
      return true;
    case 'tables':
      return JSON.parse(text) as unknown;
  }
  return text.trim();
}

/** The settings that a form says, without those that are left out. */
export function toldOf(form: FormData, described: Pick<Setting, 'form' | 'name'>[]): Record<string, unknown> {
  const told: Record<string, unknown> = {};
  for (const s of described) {
    const value = settingValue(s, String(form.get(`set-${s.name}`) ?? ''));
    if (value !== undefined) told[s.name] = value;
  }
  return told;
}
