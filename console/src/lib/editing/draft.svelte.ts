// What somebody writes of a record before it is saved: kept on the service for the person, and in
// this tab while the service does not answer, so that nothing typed is lost.
import { api, body, Problem, type Writer } from '../api';
import { without, type Written } from './hint';

type Kind = 'job' | 'report';
type Content = { name: string; value: Written; base: Written };

const pause = 800; // ms without a key before it is kept
const again = 4_000; // ms until the next try when it could not be

/** Tells whether two records say the same. */
export const same = (a: unknown, b: unknown) => JSON.stringify(without(a)) === JSON.stringify(without(b));

export class Draft {
  name = $state('');
  value = $state<Written>({});
  /** What it began from. */
  base = $state.raw<Written>({});
  began = $state(0);
  /** When it was last kept; empty when nothing had to be. */
  keptAt = $state('');
  /** Why it could not be kept, while it could not. */
  trouble = $state('');
  /** Who else writes at the same record. */
  others = $state.raw<Writer[]>([]);
  /** It was found, and not begun now. */
  found = $state(false);

  /** It was written on in another window meanwhile; nothing is kept until somebody chose. */
  elsewhere = $state(false);

  #number = 0; // of the draft on the service, 0 for none
  #tried: string[] = []; // what was sent and not answered
  #kept = '';
  #timer: ReturnType<typeof setTimeout> | undefined;
  #done = false;
  readonly #store: string;

  constructor(
    readonly kind: Kind,
    readonly key: string,
    readonly record: string,
    login: string,
    base: Written,
    began: number,
  ) {
    this.#store = `draft ${login} ${kind} ${key}`;
    this.name = record;
    this.base = base;
    this.value = structuredClone(base);
    this.began = began;
    this.#kept = this.#says();
  }

  /** Goes on with the draft that there is, if there is one. */
  async open(): Promise<void> {
    const page = await this.#there();
    this.others = page.others;
    this.#number = page.draft?.kept ?? 0;
    const here = sessionStorage.getItem(this.#store);
    const there = page.draft;
    const content = here
      ? (JSON.parse(here) as Content & { began: number })
      : (there?.content as Content | undefined);
    if (!content) return;
    this.name = content.name;
    // What a sheet cannot do without is there, whatever was kept.
    this.value = { ...(this.kind === 'job' ? { tasks: [] } : { sections: [] }), ...content.value };
    this.base = content.base;
    this.began = here ? (content as Content & { began: number }).began : (there?.began ?? 0);
    this.keptAt = there?.kept_at ?? '';
    this.found = true;
    this.#kept = here ? '' : this.#says();
  }

  /** Tells whether it says something else than what it began from. */
  get changed(): boolean {
    return this.name !== this.record || !same(this.value, this.base);
  }

  /** Tells whether something was written that is kept nowhere yet. */
  get unkept(): boolean {
    return !this.#done && this.#says() !== this.#kept;
  }

  #content(): Content {
    return $state.snapshot({ name: this.name, value: this.value, base: this.base }) as Content;
  }
  /** What it says, whatever else stands in it. */
  #says(): string {
    return JSON.stringify([this.name, without(this.value)]);
  }

  /** Notes that somebody wrote: it is kept when they pause. To be called in an effect. */
  note(): void {
    if (this.#says() === this.#kept || this.#done || this.elsewhere) return;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.keep(), pause);
  }

  /** Keeps it now. */
  async keep(): Promise<void> {
    clearTimeout(this.#timer);
    const says = this.#says();
    if (says === this.#kept || this.#done || this.elsewhere) return;
    const content = this.#content();
    this.#tried = [...this.#tried.slice(-20), says];
    try {
      const kept = await body(
        api.PUT('/api/drafts/{kind}/{key}', {
          params: { path: { kind: this.kind, key: this.key } },
          body: { record: this.record, began: this.began, content, kept: this.#number },
        }),
      );
      if (this.#done) return;
      this.#kept = says;
      this.#number = kept.kept;
      this.#tried = [];
      this.keptAt = kept.kept_at;
      this.others = kept.others;
      this.trouble = '';
      sessionStorage.removeItem(this.#store);
      this.note();
    } catch (error) {
      if (this.#done) return;
      if (error instanceof Problem && error.status === 412 && (await this.#meanwhile())) return;
      sessionStorage.setItem(this.#store, JSON.stringify({ ...content, began: this.began }));
      this.trouble =
        error instanceof Problem && error.status > 0 ? error.message : 'the service does not answer';
      this.#timer = setTimeout(() => void this.keep(), again);
    }
  }

  /** What was kept meanwhile may be our own, whose answer was lost; else somebody has to choose. */
  async #meanwhile(): Promise<boolean> {
    const { draft } = await this.#there();
    this.#number = draft?.kept ?? 0;
    const content = draft?.content as Content | undefined;
    if (!content) return false;
    this.elsewhere = !this.#tried.includes(JSON.stringify([content.name, without(content.value)]));
    return this.elsewhere;
  }
  #there() {
    const path = { kind: this.kind, key: this.key };
    return body(api.GET('/api/drafts/{kind}/{key}', { params: { path, query: { record: this.record } } }));
  }

  /** Goes on with what stands here, or with what was written in the other window. */
  async choose(here: boolean): Promise<void> {
    this.#tried = [];
    if (!here) {
      sessionStorage.removeItem(this.#store);
      await this.open();
    }
    this.elsewhere = false;
    await this.keep();
  }

  /** Forgets it: it is saved, or not wanted. */
  async drop(): Promise<void> {
    this.#done = true;
    clearTimeout(this.#timer);
    sessionStorage.removeItem(this.#store);
    await body(
      api.DELETE('/api/drafts/{kind}/{key}', { params: { path: { kind: this.kind, key: this.key } } }),
    );
  }

  /** Keeps what is not kept yet, when the page is left. */
  close(): void {
    void this.keep();
    clearTimeout(this.#timer);
  }

  /** Goes on from what somebody else has saved meanwhile. */
  rebase(value: Written, base: Written, began: number): void {
    this.value = structuredClone(value);
    this.base = base;
    this.began = began;
  }
}
