import { expect, test } from '@jest/globals';
import { WorkerChannel, type Port } from './channel';

interface Sent {
  readonly id: number;
  readonly request: { readonly kind: string };
}

class FakePort implements Port {
  readonly sent: Sent[] = [];
  isEnded = false;
  onmessage: Port['onmessage'] = null;
  onerror: Port['onerror'] = null;
  onmessageerror: Port['onmessageerror'] = null;
  postMessage(message: Sent): void {
    this.sent.push(message);
  }
  terminate(): void {
    this.isEnded = true;
  }
  answer(data: unknown): void {
    this.onmessage!.call(this as never, { data } as MessageEvent);
  }
}

const open = { kind: 'open', files: {} } as const;
const edit = { kind: 'edit', path: 'a.sql', text: '' } as const;

function channel(limit?: number) {
  const ports: FakePort[] = [];
  const made = new WorkerChannel(() => {
    const port = new FakePort();
    ports.push(port);
    return port;
  }, limit);
  return { made, ports };
}

test('answers and errors reach who asked, in any order', async () => {
  const { made, ports } = channel();
  const [first, second] = [made.ask<'open'>(open), made.ask<'edit'>(edit)];
  ports[0]!.answer({ id: 2, error: 'no' });
  ports[0]!.answer({ id: 1, answer: 'read' });
  expect(await first).toBe('read');
  await expect(second).rejects.toThrow('no');
});

test('a worker that cannot be loaded fails what waits; the next question starts another, which is told the project', async () => {
  const { made, ports } = channel();
  const failed = made.ask<'open'>(open);
  ports[0]!.onerror!.call(ports[0] as never, { message: '404' } as ErrorEvent);
  await expect(failed).rejects.toThrow(/has failed: 404/);
  expect(ports[0]!.isEnded).toBe(true);
  const again = made.ask<'edit'>(edit);
  expect(ports[1]!.sent.map((s) => s.request.kind)).toEqual(['open', 'edit']);
  for (const { id, request } of ports[1]!.sent) ports[1]!.answer({ id, answer: `${request.kind} done` });
  expect(await again).toBe('edit done');
});

test('a worker that does not answer in time is given up', async () => {
  const { made, ports } = channel(20);
  await expect(made.ask<'open'>(open)).rejects.toThrow(/did not answer within 0.02 seconds/);
  expect(ports[0]!.isEnded).toBe(true);
});

test('an answer that cannot be read, and a worker that cannot be made, are reported', async () => {
  const { made, ports } = channel();
  const failed = made.ask<'open'>(open);
  ports[0]!.onmessageerror!.call(ports[0] as never, {} as MessageEvent);
  await expect(failed).rejects.toThrow(/could not be read/);
  const none = new WorkerChannel(() => {
    throw new Error('blocked');
  });
  await expect(none.ask<'open'>(open)).rejects.toThrow(/could not be started: blocked/);
});
