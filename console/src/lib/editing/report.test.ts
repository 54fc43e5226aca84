import { describe, expect, it } from 'vitest';
import { differences } from './merge';
import { asked, parameterFor, queriesOf } from './report';

describe('what a query asks', () => {
  it('finds names, and no casts, texts or comments', () => {
    expect(
      asked(`SELECT ':no', "a:b", due::date -- :nor
        FROM sailings /* :this */ WHERE due >= :from AND port IN (:port) AND x = :from`),
    ).toEqual(['from', 'port']);
  });

  it('looks into all queries of a report', () => {
    expect(
      queriesOf({
        sections: [{ sql: 'a', detail: { sql: 'b' } }, { text: 'no query' }],
        parameters: [{ choices: { sql: 'c' } }],
      }),
    ).toEqual(['a', 'b', 'c']);
  });

  it('takes a date for what is called one', () => {
    expect(parameterFor('from').type).toBe('date');
    expect(parameterFor('ports_from_all').type).toBe('text');
  });
});

describe('two versions', () => {
  it('differ field by field', () => {
    const was = { title: 'Load', sections: [{ name: 'By route', sql: 'SELECT 1' }] };
    const now = {
      title: 'Load',
      sections: [
        { name: 'By route', sql: 'SELECT 2' },
        { name: 'New', sql: 'SELECT 3' },
      ],
    };
    expect(differences(was, now)).toEqual([
      { path: 'sections[By route].sql', was: 'SELECT 1', now: 'SELECT 2' },
      { path: 'sections[New]', was: undefined, now: { name: 'New', sql: 'SELECT 3' } },
    ]);
  });
});
