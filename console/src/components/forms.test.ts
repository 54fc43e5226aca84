import '@testing-library/jest-dom/vitest';
import { cleanup, fireEvent, render, screen } from '@testing-library/svelte';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { api, type Ahead, type Place } from '../lib/api';
import AheadView from './AheadView.svelte';
import FormsInQueries from './testing/FormsInQueries.svelte';

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

const answered = (data: unknown) => ({ data, response: new Response() }) as never;
const refused = (detail: string) =>
  ({ error: { detail }, response: new Response(null, { status: 422 }) }) as never;

const protocols = [
  {
    name: 'sftp',
    title: 'SFTP server',
    takes: 'files',
    password: { name: 'password', form: 'block', doc: 'of the sign-in name, or a private key in PEM' },
    settings: [
      { name: 'host', form: 'text', doc: 'name of the server', needed: true },
      { name: 'port', form: 'number', doc: '22 when left out' },
      { name: 'host_key', form: 'text', doc: 'the one of the first test when left out', further: true },
    ],
  },
  {
    name: 'smtp',
    title: 'Mail server (SMTP)',
    takes: 'mail',
    settings: [
      { name: 'host', form: 'text', doc: 'name of the server', needed: true },
      { name: 'security', form: 'choice', choices: ['starttls', 'none'], doc: 'starttls when left out' },
      { name: 'standby', form: 'list', doc: 'further servers', further: true },
    ],
  },
];
const authority = {
  id: 1,
  name: 'Authority',
  protocol: 'sftp',
  settings: { host: 'files.harbour.example', port: 2222 },
  sealed: true,
  updated_at: '2026-11-27T06:15:00Z',
} as Place;

describe('the form of a destination', () => {
  it('asks for what the protocol can be told, and tells only what was written', async () => {
    vi.spyOn(api, 'GET').mockResolvedValue(answered(protocols));
    const put = vi.spyOn(api, 'PUT').mockResolvedValue(answered({}));
    const done = vi.fn();
    render(FormsInQueries, { what: 'destination', done });
    await fireEvent.input(await screen.findByLabelText('Host *'), {
      target: { value: 'mail.tarnwick.example' },
    });
    await fireEvent.input(screen.getByLabelText('Name'), { target: { value: ' company mail ' } });
    await fireEvent.input(screen.getByLabelText('Standby'), { target: { value: 'b:587\n\nc:587' } });
    expect(screen.getByText('It takes mails.')).toBeInTheDocument();
    expect(screen.queryByLabelText('Password')).not.toBeInTheDocument();
    screen.getByRole('button', { name: 'Save' }).click();
    await vi.waitFor(() => expect(done).toHaveBeenCalledWith('company mail', false));
    expect(put.mock.calls[0]?.[1]).toEqual({
      headers: expect.anything(),
      params: { path: { name: 'company mail' } },
      body: {
        protocol: 'smtp',
        settings: { host: 'mail.tarnwick.example', standby: ['b:587', 'c:587'] },
        password: undefined,
      },
    });
  });

  it('shows what is there, keeps the password that is not written, and says what was refused', async () => {
    vi.spyOn(api, 'GET').mockResolvedValue(answered(protocols));
    const put = vi.spyOn(api, 'PUT').mockResolvedValue(refused('sftp: the setting port takes no string'));
    const done = vi.fn();
    render(FormsInQueries, { what: 'destination', place: authority, done });
    expect(await screen.findByLabelText('Host *')).toHaveValue('files.harbour.example');
    const port = screen.getByLabelText('Port');
    expect(port).toHaveValue('2222');
    expect(screen.queryByLabelText('Name')).not.toBeInTheDocument();
    expect(screen.getByText(/The one that is there stays when this is empty/)).toBeInTheDocument();
    expect(screen.getByText('A file with a private key.')).toBeInTheDocument();
    await fireEvent.input(port, { target: { value: 'two' } });
    screen.getByRole('button', { name: 'Save and test it' }).click();
    expect(await screen.findByText(/takes no string/)).toBeInTheDocument();
    expect(put.mock.calls[0]?.[1]).toMatchObject({
      body: { settings: { host: 'files.harbour.example', port: 'two' }, password: undefined },
    });
    expect(done).not.toHaveBeenCalled();
    put.mockResolvedValue(answered({}));
    await fireEvent.input(port, { target: { value: '' } });
    screen.getByRole('button', { name: 'Save and test it' }).click();
    await vi.waitFor(() => expect(done).toHaveBeenCalledWith('Authority', true));
    expect(put.mock.lastCall?.[1]).toMatchObject({ body: { settings: { host: 'files.harbour.example' } } });
  });

  it('begins anew with another protocol', async () => {
    vi.spyOn(api, 'GET').mockResolvedValue(answered(protocols));
    render(FormsInQueries, { what: 'destination', place: authority, done: vi.fn() });
    await screen.findByLabelText('Port');
    await fireEvent.change(screen.getByLabelText('Protocol'), { target: { value: 'smtp' } });
    expect(await screen.findByLabelText('Security')).toHaveValue('');
    expect(screen.getByLabelText('Host *')).toHaveValue('');
  });
});

describe('the form of a group', () => {
  it('says whom it comes to, and each that is wrong', async () => {
    const post = vi.spyOn(api, 'POST').mockResolvedValue(
      answered({
        addresses: ['oren@tarnwick.example'],
        notes: ['Brina Colm gets no mail until 3 Dec 2026'],
        wrong: [{ sentence: 'there is no person "nobody"' }],
      }),
    );
    const put = vi.spyOn(api, 'PUT').mockResolvedValue(answered({}));
    const done = vi.fn();
    render(FormsInQueries, {
      what: 'group',
      group: { name: 'Quay', members: ['person:oren', 'person:nobody'] },
      done,
    });
    expect(screen.getByLabelText('Members')).toHaveValue('person:oren\nperson:nobody');
    expect(await screen.findByText(/there is no person "nobody"/)).toBeInTheDocument();
    expect(screen.getByText(/Brina Colm gets no mail/)).toBeInTheDocument();
    expect(screen.getByText('Comes to 1 now:')).toBeInTheDocument();
    expect(post.mock.calls[0]?.[1]).toMatchObject({ body: { to: ['person:oren\nperson:nobody'] } });
    await fireEvent.input(screen.getByLabelText('Members'), { target: { value: 'person:oren' } });
    screen.getByRole('button', { name: 'Save the group' }).click();
    await vi.waitFor(() => expect(done).toHaveBeenCalled());
    expect(put.mock.calls[0]?.[1]).toEqual({
      headers: expect.anything(),
      params: { path: { name: 'Quay' } },
      body: { members: ['person:oren'] },
    });
  });
});

describe('the form of a post', () => {
  it('closes nothing that was opened after it', async () => {
    let answer: (value: unknown) => void = () => undefined;
    vi.spyOn(api, 'PUT').mockReturnValue(new Promise((done) => (answer = done)) as never);
    const done = vi.fn();
    const { unmount } = render(FormsInQueries, {
      what: 'post',
      post: { name: 'Port master', holders: ['oren'] },
      done,
    });
    screen.getByRole('button', { name: 'Save the post' }).click();
    await vi.waitFor(() => expect(api.PUT).toHaveBeenCalled());
    unmount();
    answer(answered({}));
    await new Promise((later) => setTimeout(later, 50));
    expect(done).not.toHaveBeenCalled();
  });

  it('has holders that come and go', async () => {
    const put = vi.spyOn(api, 'PUT').mockResolvedValue(answered({}));
    const done = vi.fn();
    render(FormsInQueries, {
      what: 'post',
      post: { name: 'Port master', under: 'Managing director', holders: ['oren'] },
      done,
    });
    expect(screen.getByLabelText('Stands under')).toHaveValue('Managing director');
    expect(screen.queryByRole('option', { name: 'Port master' })).not.toBeInTheDocument();
    await fireEvent.change(screen.getByLabelText('Held by'), { target: { value: 'joren' } });
    await screen.findByRole('button', { name: 'Take Joren Tak out' });
    screen.getByRole('button', { name: 'Take Oren Hask out' }).click();
    await vi.waitFor(() =>
      expect(screen.queryByRole('button', { name: 'Take Oren Hask out' })).not.toBeInTheDocument(),
    );
    screen.getByRole('button', { name: 'Save the post' }).click();
    await vi.waitFor(() => expect(done).toHaveBeenCalled());
    expect(put.mock.calls[0]?.[1]).toEqual({
      headers: expect.anything(),
      params: { path: { name: 'Port master' } },
      body: { under: 'Managing director', holders: ['joren'] },
    });
  });
});

describe('what a job would do', () => {
  const ahead: Ahead = {
    zone: 'Europe/London',
    says: 'It rings on demand.',
    next: Array.from({ length: 6 }, (_, n) => ({
      due: `2026-12-${28 + Math.min(n, 3)}T09:00:00Z`,
      nominal: n === 0 ? '2026-12-25T09:00:00Z' : `2026-12-${28 + Math.min(n, 3)}T09:00:00Z`,
      reading: 'every day at 09:00',
    })),
    parts: 5,
    part: 'EH',
    tasks: [
      { task: 'report', kind: 'report', files: ['Day sheet Ellerhaven.pdf'] },
      {
        task: 'mail',
        kind: 'deliver',
        destination: 'company mail',
        subject: 'Day sheet',
        to: Array.from({ length: 25 }, (_, n) => `reader${n}@tarnwick.example`),
        recipients: 25,
        seen: 'whoever reads the mail of 25 recipients',
      },
      { task: 'archive', kind: 'deliver', wrong: 'there is no destination "the moon"' },
    ],
    wrong: [{ where: 'owner', sentence: 'Mara Quill has no mail address' }],
  };

  it('says when, what, to whom, who sees it, and what is missing', () => {
    const { container } = render(AheadView, { ahead });
    expect(container).toHaveTextContent('Mara Quill has no mail address');
    expect(container).toHaveTextContent('for Fri 25 Dec');
    expect(container).toHaveTextContent('and so on');
    expect(container).toHaveTextContent('5 parts in one run. This is the first, EH.');
    expect(container).toHaveTextContent('Day sheet Ellerhaven.pdf');
    expect(container).toHaveTextContent('reader19@tarnwick.example and 5 more');
    expect(container).not.toHaveTextContent('reader20@');
    expect(container).toHaveTextContent('Will be seen by whoever reads the mail of 25 recipients.');
    expect(container).toHaveTextContent('there is no destination "the moon"');
  });

  it('says so when nothing rings', () => {
    render(AheadView, { ahead: { ...ahead, next: [], parts: undefined, tasks: [], wrong: [] } });
    expect(screen.getByText('It rings at no time of its own.')).toBeInTheDocument();
    expect(screen.queryByText(/parts/)).not.toBeInTheDocument();
  });
});
