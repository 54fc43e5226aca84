// The chain of a job: which task follows which, and changing that.

export type ChainTask = {
  name?: unknown;
  kind?: unknown;
  after?: unknown;
  only_if?: unknown;
  if_failed?: unknown;
};
export type Link = { from: string; to: string; condition: string; evenFailed: boolean };

const nameOf = (t: ChainTask | undefined) => String(t?.name ?? '');

/** The tasks that one follows: those it names, or the one before it in the list. */
export function followed(tasks: ChainTask[], i: number): string[] {
  const after = tasks[i]?.after;
  if (Array.isArray(after)) return after.map(String);
  return i > 0 ? [nameOf(tasks[i - 1])] : [];
}

/** All links, each with the condition of the task that it leads to. */
export function links(tasks: ChainTask[]): Link[] {
  return tasks.flatMap((t, i) =>
    followed(tasks, i)
      .filter((from) => tasks.some((o) => nameOf(o) === from))
      .map((from) => ({
        from,
        to: nameOf(t),
        condition: String(t.only_if ?? ''),
        evenFailed: tasks.find((o) => nameOf(o) === from)?.if_failed === 'go on',
      })),
  );
}

/** Tells whether a task comes before another, over any number of links. */
export function before(tasks: ChainTask[], first: string, then: string): boolean {
  const all = links(tasks);
  const seen = new Set<string>();
  const waiting = [then];
  for (let at = waiting.pop(); at !== undefined; at = waiting.pop()) {
    if (seen.has(at)) continue;
    seen.add(at);
    for (const l of all) if (l.to === at) waiting.push(l.from);
  }
  return first !== then && seen.has(first);
}

/** The tasks with their orders written out, so that moving one in the list moves no link. */
export function written<T extends ChainTask>(tasks: T[]): T[] {
  return tasks.map((t, i) => ({ ...t, after: followed(tasks, i) }));
}

/** Joins two tasks: the second follows the first. What would make a circle is left as it is. */
export function join<T extends ChainTask>(tasks: T[], from: string, to: string): T[] {
  if (from === to || before(tasks, to, from)) return tasks;
  return written(tasks).map((t) =>
    nameOf(t) === to ? { ...t, after: [...new Set([...(t.after as string[]), from])] } : t,
  );
}

/** Parts two tasks: the second does not follow the first any more. */
export function part<T extends ChainTask>(tasks: T[], from: string, to: string): T[] {
  return written(tasks).map((t) =>
    nameOf(t) === to ? { ...t, after: (t.after as string[]).filter((n) => n !== from) } : t,
  );
}

/** Puts a task behind another: what followed that one follows the new one. */
export function putAfter<T extends ChainTask>(tasks: T[], at: string, task: T): T[] {
  const all = written(tasks).map((t) => ({
    ...t,
    after: (t.after as string[]).map((n) => (n === at ? nameOf(task) : n)),
  }));
  const i = all.findIndex((t) => nameOf(t) === at);
  return [...all.slice(0, i + 1), { ...task, after: [at] }, ...all.slice(i + 1)];
}

/** Puts a task beside another: it follows what that one follows. */
export function putBeside<T extends ChainTask>(tasks: T[], at: string, task: T): T[] {
  const all = written(tasks);
  const i = all.findIndex((t) => nameOf(t) === at);
  return [...all.slice(0, i + 1), { ...task, after: all[i]?.after }, ...all.slice(i + 1)];
}

/**
 * The chain as it was, with what was written in its tasks since: what is still there keeps its
 * settings, what was taken out comes back as it was.
 */
export function restored<T extends ChainTask>(was: T[], now: T[]): T[] {
  return was.map((t) => {
    const still = now.find((n) => nameOf(n) === nameOf(t));
    return still ? { ...still, after: t.after } : t;
  });
}

/** Takes a task out: what followed it follows what it followed. */
export function takeOut<T extends ChainTask>(tasks: T[], at: string): T[] {
  const all = written(tasks);
  const gone = all.find((t) => nameOf(t) === at);
  return all
    .filter((t) => t !== gone)
    .map((t) => ({
      ...t,
      after: [...new Set((t.after as string[]).flatMap((n) => (n === at ? (gone?.after as string[]) : [n])))],
    }));
}
