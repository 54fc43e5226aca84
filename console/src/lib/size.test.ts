import { expect, test } from 'vitest';
import { size } from './size';

test('sizes read as they are', () => {
  expect(size(0)).toBe('0 bytes');
  expect(size(1)).toBe('1 byte');
  expect(size(999)).toBe('999 bytes');
  expect(size(12_400)).toBe('12.4 kB');
  expect(size(3_100_000)).toBe('3.1 MB');
});
