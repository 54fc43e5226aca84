import { describe, expect, it } from 'vitest';
import { settingLabel, settingText, settingValue } from './setting';

describe('settings of a destination', () => {
  it('have names for people', () => {
    expect(settingLabel('host')).toBe('Host');
    expect(settingLabel('client_id')).toBe('Client ID');
    expect(settingLabel('url')).toBe('URL');
    expect(settingLabel('per_minute')).toBe('Per minute');
  });
  it('come back from their fields as they were', () => {
    for (const [form, value] of [
      ['text', 'files.harbour.example'],
      ['number', 2222],
      ['choice', 'starttls'],
      ['list', ['mail2.tarnwick.example:587', 'mail3.tarnwick.example:587']],
      ['pairs', { Authorization: 'Bearer {password}', 'X-Port': 'GS: north' }],
      ['block', '-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----\n'],
    ] as const) {
      expect(settingValue({ form }, settingText(value)), form).toEqual(value);
    }
  });
  it('are left out when their field is empty', () => {
    for (const form of ['text', 'number', 'choice', 'list', 'pairs', 'block'] as const)
      expect(settingValue({ form }, '  \n ')).toBeUndefined();
    expect(settingText(undefined)).toBe('');
  });
  it('go to the service as written when they are no number', () => {
    expect(settingValue({ form: 'number' }, 'two')).toBe('two');
  });
  it('drop empty lines and spaces around', () => {
    expect(settingValue({ form: 'list' }, ' a:1 \n\n b:2')).toEqual(['a:1', 'b:2']);
    expect(settingValue({ form: 'pairs' }, 'Bare')).toEqual({ Bare: '' });
    expect(settingValue({ form: 'text' }, ' quay ')).toBe('quay');
  });
});
