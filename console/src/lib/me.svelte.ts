// Who is signed in, for whoever shows times.
import type { Me } from './api';

const held = $state<{ me: Me | null }>({ me: null });

export function setMe(me: Me) {
  held.me = me;
}

/** Who is signed in. */
export function me(): Me | null {
  return held.me;
}

/** The zone in which this person reads times. */
export function myZone(): string {
  return held.me?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone;
}

/** Whether this person may change what belongs to owner; what belongs to nobody, every owner may. */
export function mayChange(owner: string): boolean {
  const role = held.me?.role;
  return role === 'administrator' || (role === 'owner' && (owner === '' || held.me?.login === owner));
}

/** Whether this person may change what belongs to all. */
export function isAdministrator(): boolean {
  return held.me?.role === 'administrator';
}
