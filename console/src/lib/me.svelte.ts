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

type Act = Me['may'][number];

/** Whether this person may do something to what belongs to owner; what belongs to nobody counts as their own. */
function may(act: Act, owner: string): boolean {
  const own = owner === '' || held.me?.login.toLowerCase() === owner.toLowerCase();
  return Boolean(held.me?.may.includes(act) || (own && held.me?.may_own.includes(act)));
}

/** Whether this person may change, ring and settle what belongs to owner. */
export function mayChange(owner: string): boolean {
  return may('write', owner);
}

/** Whether this person may make jobs and reports of their own. */
export function mayBegin(): boolean {
  return may('write', '');
}

/** Whether this person may change what belongs to all. */
export function isAdministrator(): boolean {
  return Boolean(held.me?.may.includes('administer'));
}
