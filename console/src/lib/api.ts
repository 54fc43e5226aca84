// The way to the service. Types come from its own description.
import createClient from 'openapi-fetch';
import type { components, paths } from './api.gen';

type Schemas = components['schemas'];
export type Day = Schemas['Day'];
export type Mark = Schemas['Mark'];
export type Coming = Schemas['Coming'];
export type Alert = Schemas['Alert'];
export type JobLine = Schemas['JobLine'];
export type JobPage = Schemas['JobPage'];
export type Run = Schemas['Run'];
export type RunPage = Schemas['RunPage'];
export type Attempt = Schemas['Attempt'];
export type Artifact = Schemas['Artifact'];
export type Delivery = Schemas['Delivery'];
export type LogLine = Schemas['LogLine'];
export type Me = Schemas['Me'];
export type Person = Schemas['Person'];
export type Group = Schemas['Group'];
export type Post = Schemas['Post'];
export type Trigger = Schemas['Trigger'];
/** When a trigger rings. */
// The timing of a trigger that has a rule.
export type When = Schemas['When'];
export type Timing = Pick<Trigger, 'rule' | 'start' | 'end' | 'count' | 'hours' | 'closed'> & {
  rule: string;
};
export type Forecast = Schemas['Forecast'];
export type Calendar = Schemas['Calendar'];
export type CalendarEntry = Schemas['Entry'];
export type CalendarDefinition = Schemas['Definition'];
export type OutsideEvent = Schemas['Event'];
export type Condition = Schemas['Condition'];
export type WaitingCondition = Schemas['WaitingCondition'];
export type Expected = Schemas['Expected'];
export type Looked = Schemas['Looked'];
export type Sender = Schemas['Sender'];
export type Subscription = Schemas['Subscription'];
export type SenderKey = Schemas['SenderKey'];
export type HouseStyle = Schemas['HouseStyle'];
export type HouseFile = Schemas['HouseFile'];
export type WorkbookFile = Schemas['WorkbookFile'];
export type WorkbookPlan = Schemas['WorkbookPlan'];
export type Mine = Schemas['Mine'];
export type OwnScheduleLine = Schemas['OwnScheduleLine'];
export type OpenReport = Schemas['OpenReport'];
export type OwnSchedule = Schemas['OwnSchedule'];
export type OpenJob = Schemas['OpenJob'];
export type Asking = Schemas['Asking'];
export type WhatIfRequest = Schemas['WhatIfRequest'];
export type WhatIf = Schemas['WhatIf'];
export type RingChange = Schemas['RingChange'];
export type RingCounts = Schemas['RingCounts'];
export type Load = Schemas['Load'];

export type Report = Schemas['Report'];
export type ReportCheck = Schemas['ReportCheck'];
export type ReportPage = Schemas['ReportPage'];
export type Offered = Schemas['Offered'];
export type Asked = Schemas['Asked'];
export type AskedValues = Schemas['AskedValues'];
export type JobRequest = Schemas['JobRequest'];
export type ReportRequest = Schemas['ReportRequest'];
export type Output = Schemas['Output'];
export type DraftPage = Schemas['DraftPage'];
export type Writer = Schemas['Writer'];
export type PreviewSection = Schemas['PreviewSection'];
export type Preview = Schemas['Preview'];
export type Place = Schemas['Place'];
export type Archived = Schemas['Archived'];
export type QueueLine = Schemas['QueueLine'];
export type Setting = Schemas['Setting'];
export type Ahead = Schemas['Ahead'];
export type Compared = Schemas['Compared'];
/** Values of parameters, by name. */
export type Values = Record<string, unknown>;

export const api = createClient<paths>({ baseUrl: '' });

/** Saves a record only while it has the revision that a change began from. */
export const beganFrom = (revision?: number) => ({ headers: { 'If-Match': `"${revision ?? 0}"` } });

/** Saves a record only when there is none of its name. */
export const toBeNew = { headers: { 'If-None-Match': '*' } };

// A setting is saved only while it is as it was last shown.
const shown = new Map<string, string>();
api.use({
  onRequest({ request, schemaPath }) {
    const tag = shown.get(schemaPath);
    if (request.method === 'PUT' && tag) request.headers.set('If-Match', tag);
  },
  onResponse({ request, response, schemaPath }) {
    const tag = response.headers.get('ETag');
    if (request.method === 'GET' && tag && schemaPath.startsWith('/api/settings/'))
      shown.set(schemaPath, tag);
  },
});

// A session that ends while somebody works shows at whatever is asked next.
const heard = new Set<() => void>();
api.use({
  onResponse({ response, schemaPath }) {
    if (response.status === 401 && schemaPath !== '/api/session') for (const hear of heard) hear();
  },
});

/** Calls back when an answer says that nobody is signed in; the returned function ends that. */
export function onSignedOut(hear: () => void): () => void {
  heard.add(hear);
  return () => heard.delete(hear);
}

/** What the service answered when it did not do what was asked (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly details: { location?: string; message?: string }[] = [],
  ) {
    super(detail);
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Gives the body of an answer, or throws a Problem. */
export async function body<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new Problem(
      0,
      'The service does not answer. What rings goes on by itself; this page tries again in a moment.',
    );
  }
  if (!answer.response.ok) {
    const p = (answer.error ?? {}) as Schemas['ErrorModel'];
    throw new Problem(
      answer.response.status,
      p.detail ?? p.title ?? answer.response.statusText,
      p.errors ?? [],
    );
  }
  return answer.data as T;
}

/** Tells whether an error says that nobody is signed in. */
export function isSignedOut(error: unknown): boolean {
  return error instanceof Problem && error.status === 401;
}

/** A file as the body of a request. */
export const bytesOf = (file: File) => ({
  body: file as unknown as string,
  bodySerializer: (b: unknown) => b as Blob,
  headers: { 'Content-Type': 'application/octet-stream' },
});
