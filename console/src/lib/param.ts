import { searchParams } from 'sv-router';
import type { Values } from './api';

/** A part of the address as it was meant: "Public%20holidays" is "Public holidays". */
export function param(text: string | undefined): string {
  try {
    return decodeURIComponent(text ?? '');
  } catch {
    return text ?? ''; // a lone percent sign
  }
}

/** A part of the address behind its question mark, as it stands there: the router would make a number of 007. */
export function searched(name: string): string | null {
  return searchParams.toURLSearchParams().get(name);
}

/** Values that an address brings, as JSON; none when it brings no such. */
export function valuesIn(text: string | null): Values {
  try {
    const found: unknown = JSON.parse(text ?? '{}');
    return typeof found === 'object' && found ? (found as Values) : {};
  } catch {
    return {};
  }
}
