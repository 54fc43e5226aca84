// The editor of queries: highlighted, with completion of the source's tables and of parameters.
// It is loaded when a query is to be edited.
import {
  autocompletion,
  closeBrackets,
  completionKeymap,
  type Completion,
  type CompletionContext,
} from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { MSSQL, MySQL, PostgreSQL, SQLite, sql, type SQLNamespace } from '@codemirror/lang-sql';
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { setDiagnostics, type Diagnostic } from '@codemirror/lint';
import { Compartment, EditorState } from '@codemirror/state';
import { EditorView, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';

export type Table = { schema?: string; name: string; columns: { name: string; type: string }[] };
export type Known = { protocol: string; tables: Table[]; parameters: { name: string; type?: string }[] };
/** A fault at a place in the text; lines and columns from 1. */
export type At = { line: number; column: number; sentence: string };

const dialects: Record<string, typeof PostgreSQL> = {
  postgres: PostgreSQL,
  mysql: MySQL,
  sqlserver: MSSQL,
  sqlite: SQLite,
};

// State colours are for states: code has weights and one bronze.
const marks = HighlightStyle.define([
  { tag: tags.keyword, fontWeight: '700', color: 'var(--color-primary)' },
  { tag: [tags.string, tags.number], color: 'var(--color-base-content)', fontStyle: 'italic' },
  { tag: tags.comment, color: 'var(--color-neutral)' },
]);

const look = EditorView.theme({
  '&': { fontSize: '13px', backgroundColor: 'var(--color-base-100)', color: 'var(--color-base-content)' },
  '&.cm-focused': { outline: '2px solid var(--color-primary)', outlineOffset: '1px' },
  '.cm-content': {
    fontFamily: 'var(--font-mono)',
    fontVariantLigatures: 'none',
    caretColor: 'var(--color-primary)',
  },
  '.cm-cursor': { borderLeftColor: 'var(--color-primary)' },
  '.cm-gutters': {
    backgroundColor: 'var(--color-base-200)',
    color: 'var(--color-neutral)',
    border: 'none',
  },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground, ::selection': {
    backgroundColor: 'var(--color-secondary) !important',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--color-base-100)',
    color: 'var(--color-base-content)',
    border: '1px solid var(--color-base-300)',
    fontFamily: 'var(--font-mono)',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': {
    backgroundColor: 'var(--color-secondary)',
    color: 'var(--color-secondary-content)',
  },
  '.cm-completionDetail': { color: 'var(--color-neutral)', fontStyle: 'normal', marginLeft: '1em' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--color-error)' },
  '.cm-scroller': { maxHeight: '24rem', overflow: 'auto' },
});

function languageOf(known: Known) {
  const schema: SQLNamespace = {};
  const all = schema as Record<string, SQLNamespace>;
  for (const t of known.tables) {
    const columns: Completion[] = t.columns.map((c) => ({ label: c.name, type: 'property', detail: c.type }));
    all[t.name] ??= columns;
    if (t.schema) {
      const inside = (all[t.schema] ??= {}) as Record<string, SQLNamespace>;
      if (!Array.isArray(inside)) inside[t.name] = columns;
    }
  }
  const parameters: Completion[] = known.parameters.map((p) => ({
    label: `:${p.name}`,
    type: 'variable',
    detail: `parameter${p.type ? `, ${p.type}` : ''}`,
  }));
  const language = sql({ dialect: dialects[known.protocol] ?? PostgreSQL, schema, upperCaseKeywords: true });
  return [
    language,
    language.language.data.of({
      autocomplete: (context: CompletionContext) => {
        const word = context.matchBefore(/:\w*/);
        return word ? { from: word.from, options: parameters, validFor: /^:\w*$/ } : null;
      },
    }),
  ];
}

export type SqlEditor = {
  text: (to: string) => void;
  know: (known: Known) => void;
  faults: (all: At[]) => void;
  close: () => void;
};

/** Puts an editor into an element. written is called with each change, run by Ctrl-Enter. */
export function openSql(
  parent: HTMLElement,
  text: string,
  known: Known,
  names: Record<string, string>,
  written: (text: string) => void,
  run: () => void,
): SqlEditor {
  const language = new Compartment();
  const view = new EditorView({
    parent,
    state: EditorState.create({
      doc: text,
      extensions: [
        lineNumbers(),
        history(),
        closeBrackets(),
        autocompletion(),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of(names),
        keymap.of([
          { key: 'Mod-Enter', run: () => (run(), true) },
          ...completionKeymap,
          ...defaultKeymap.filter((k) => k.key !== 'Mod-Enter'),
          ...historyKeymap,
        ]),
        syntaxHighlighting(marks),
        language.of(languageOf(known)),
        look,
        EditorView.updateListener.of((u) => {
          if (u.docChanged) written(u.state.doc.toString());
        }),
      ],
    }),
  });
  return {
    text: (to) => {
      if (to !== view.state.doc.toString())
        view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: to } });
    },
    know: (to) => view.dispatch({ effects: language.reconfigure(languageOf(to)) }),
    faults: (all) => {
      const found = all.map((at): Diagnostic => {
        const line = view.state.doc.line(Math.min(Math.max(at.line, 1), view.state.doc.lines));
        const from = Math.min(line.from + at.column - 1, line.to);
        const word = /^[\w."]+/.exec(view.state.sliceDoc(from, line.to))?.[0].length ?? 1;
        return { from, to: Math.min(from + word, line.to), severity: 'error', message: at.sentence };
      });
      view.dispatch(setDiagnostics(view.state, found));
    },
    close: () => view.destroy(),
  };
}
