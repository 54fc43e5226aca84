// Notices of changes: they make what is shown fresh without a reload.
import type { QueryClient } from '@tanstack/svelte-query';
import type { components } from './api.gen';
import { noticed, type Name } from './queries';

type Notice = components['schemas']['Notice'];

/** Which lists a notice makes stale. Each kind stands here, so that a new one is thought of. */
const stale: Record<Notice['kind'], Name[]> = {
  access: [],
  published: ['subscriptions'],
  calendars: ['calendars', 'calendar'],
  cancel: [],
  pulse: [],
  jobs: ['day', 'jobs', 'job', 'mine'],
  runs: ['day', 'runs', 'jobs', 'job', 'run', 'log', 'deliveries', 'alert', 'queue', 'events'],
  nodes: ['state'],
  settings: ['settings', 'state'],
  run: ['day', 'runs', 'jobs', 'job', 'run', 'log', 'deliveries'],
  deliveries: ['deliveries', 'mine'],
  destinations: ['destinations', 'destination pages', 'deliveries', 'state'],
  parts: ['day', 'runs', 'queue', 'freezes'],
  alerts: ['day', 'alerts', 'alert', 'run', 'state', 'mine'],
  everything: [
    'version',
    'day',
    'mine',
    'jobs',
    'job',
    'runs',
    'run',
    'log',
    'alerts',
    'alert',
    'state',
    'deliveries',
    'destinations',
    'destination pages',
    'queue',
    'freezes',
    'events',
  ],
};

export const line = $state({ open: true });

/**
 * Listens until the returned function is called. Bursts are gathered for a
 * moment. Only a page that is seen holds a line: browsers allow six to one
 * service, so pages in the background would keep the others waiting.
 */
export function listen(client: QueryClient, refused: () => void = () => undefined): () => void {
  let due: Partial<Record<Name, true>> = {};
  let timer: ReturnType<typeof setTimeout> | undefined;
  let again: ReturnType<typeof setTimeout> | undefined;
  let source: EventSource | undefined;

  function open() {
    if (source) return;
    source = new EventSource('/api/live');
    source.addEventListener('notice', (event) => {
      line.open = true;
      const notice = JSON.parse((event as MessageEvent<string>).data) as Notice;
      for (const key of stale[notice.kind] ?? []) due[key] = true;
      if (Object.keys(due).length === 0) return;
      timer ??= setTimeout(() => {
        timer = undefined;
        noticed(client, Object.keys(due) as Name[]);
        due = {};
      }, 250);
    });
    source.onerror = () => {
      line.open = false;
      // A browser tries again by itself, but not after an answer that it takes for a refusal, such
      // as that of a service which is only starting or of a session that has ended.
      if (source?.readyState !== EventSource.CLOSED) return;
      close();
      refused();
      again = setTimeout(seen, 3_000);
    };
  }
  function close() {
    clearTimeout(again);
    source?.close();
    source = undefined;
  }
  // The first notice on a new line makes everything fresh, so nothing is missed.
  function seen() {
    if (document.visibilityState === 'visible') open();
    else close();
  }

  seen();
  document.addEventListener('visibilitychange', seen);
  window.addEventListener('pagehide', close);
  window.addEventListener('pageshow', seen);
  return () => {
    document.removeEventListener('visibilitychange', seen);
    window.removeEventListener('pagehide', close);
    window.removeEventListener('pageshow', seen);
    close();
    clearTimeout(timer);
  };
}
