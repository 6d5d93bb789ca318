import { held, sleep, until } from './app.mjs';
import http from 'node:http';

export const title = 'an event stream goes on after its session has ended';

export async function attack(app) {
  const vera = await app.signIn('vera');
  const { hostname, port } = new URL(app.address);
  let isOpen = false;
  const stream = http.get({ hostname, port, path: '/api/events', headers: vera.headers, agent: false }, (answer) => {
    isOpen = true;
    answer.resume();
    answer.on('end', () => (isOpen = false));
    answer.on('close', () => (isOpen = false));
  });
  stream.on('error', () => (isOpen = false));
  await until(() => isOpen);
  await vera.send('POST', '/api/sign-out');
  for (let i = 0; i < 60 && isOpen; i++) await sleep(200);
  stream.destroy();
  held(!isOpen, 'the stream is open twelve seconds later');
}
