// Saves what was written, unless somebody else has saved meanwhile: then both are laid side by side.
import { beganFrom, Problem, toBeNew } from '../api';
import type { Draft } from './draft.svelte';
import type { Written } from './hint';
import { asSaved } from './job';
import { merge, type Merged } from './merge';

type Headers = ReturnType<typeof beganFrom> | typeof toBeNew;
type Calls = {
  schema: string; // of the record when it is saved
  put: (name: string, headers: Headers) => Promise<{ name: string }>;
  get: (name: string) => Promise<{ revision?: number; updated_at: string }>;
};
/** What somebody else saved meanwhile, beside what is written here. */
export type Meanwhile = { merged: Merged; theirs: Written; revision: number; who: string; at: string };

export class Saving {
  meanwhile = $state.raw<Meanwhile | null>(null);
  trouble = $state.raw<unknown>(null);

  constructor(
    readonly draft: Draft,
    readonly calls: Calls,
  ) {}

  /** Saves it, and gives its name; undefined when it could not be. */
  async save(): Promise<string | undefined> {
    this.trouble = null;
    const { record, began } = this.draft;
    try {
      const saved = await this.calls.put(this.draft.name.trim(), record ? beganFrom(began) : toBeNew);
      await this.draft.drop();
      return saved.name;
    } catch (error) {
      this.trouble = error;
      if (error instanceof Problem && error.status === 412 && record) await this.#compare(error);
      return undefined;
    }
  }

  async #compare(stale: Problem): Promise<void> {
    try {
      const now = await this.calls.get(this.draft.record);
      const theirs = asSaved(this.calls.schema, now);
      this.meanwhile = {
        merged: merge(this.draft.base, $state.snapshot(this.draft.value), theirs),
        theirs,
        revision: now.revision ?? 0,
        who: / by (.+?) at \d/.exec(stale.message)?.[1] ?? '',
        at: now.updated_at,
      };
      this.trouble = null;
    } catch (error) {
      this.trouble = error;
    }
  }

  /** Goes on with what was chosen, from where the other left off. */
  goOn(value: Written): void {
    if (this.meanwhile) this.draft.rebase(value, this.meanwhile.theirs, this.meanwhile.revision);
    this.meanwhile = null;
  }
}
