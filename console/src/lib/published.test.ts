import { expect, test } from 'vitest';
import { chosen, inWords, publishedTypes, wants } from './published';

test('a type that ends with * is for all that begin so', () => {
  expect(wants(['ironbell.alert.*'], 'ironbell.alert.closed')).toBe(true);
  expect(wants(['ironbell.alert.*'], 'ironbell.run.ended')).toBe(false);
  expect(wants(['ironbell.run.ended'], 'ironbell.run.ended.late')).toBe(false);
});

test('what means the same stays as it was written', () => {
  const all = publishedTypes.map(([kind]) => kind as string);
  expect(chosen(all, ['*'])).toEqual(['*']);
  expect(chosen(['ironbell.run.ended'], ['*'])).toEqual(['ironbell.run.ended']);
});

test('types are told in words', () => {
  expect(inWords(['*'])).toBe('everything that is published');
  expect(inWords(['ironbell.alert.*'])).toBe('an alert that opens, an alert that is closed');
});
