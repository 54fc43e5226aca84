import { expect, test } from 'vitest';
import { linked } from './linked';

const here = 'https://bell.tarnwick.example';

test('addresses of this console become links, and no others', () => {
  expect(linked(`Say yes: ${here}/deliveries?kept=yes, or wait.`, here)).toEqual([
    { text: 'Say yes: ' },
    { text: `${here}/deliveries?kept=yes`, to: '/deliveries?kept=yes' },
    { text: ', or wait.' },
  ]);
  const other = 'Look at https://bell.tarnwick.example.test/ and javascript:alert(1).';
  expect(linked(other, here).some((p) => p.to)).toBe(false);
  expect(linked('', here)).toEqual([]);
});
