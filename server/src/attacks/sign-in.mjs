import { held } from './app.mjs';

export const title = 'wrong passwords lock the right person out, right ones are refused, guesses go on';

export async function attack(app) {
  const wrong = (from, name = 'vera') =>
    app.request('POST', '/api/sign-in', { body: { name, password: 'wrong' }, from });
  const right = (from) => app.request('POST', '/api/sign-in', { body: { name: 'vera', password: 'saltmere' }, from });
  const attacker = await Promise.all(Array.from({ length: 30 }, () => wrong('127.0.0.2')));
  held(
    attacker.filter((a) => a.status === 429).length >= 15,
    `of 30 guesses at once ${attacker.filter((a) => a.status === 401).length} were checked`,
  );
  const meant = await right('127.0.0.1');
  held(meant.status === 200, `the right person, from elsewhere, gets ${meant.status}`);
  const many = await Promise.all(Array.from({ length: 40 }, () => right('127.0.0.3')));
  held(
    many.every((a) => a.status === 200),
    `of 40 right sign-ins at once ${many.filter((a) => a.status !== 200).length} were refused`,
  );
  const before = await app.request('POST', '/api/sign-in', {
    body: { name: 'mira', password: 'saltmere' },
    from: '127.0.0.2',
  });
  held(before.status === 200, `another person from the attacker’s address gets ${before.status}`);
  const again = await Promise.all(Array.from({ length: 10 }, () => wrong('127.0.0.2')));
  held(
    again.every((a) => a.status === 429 || a.status === 401) && again.some((a) => a.status === 429),
    'one’s own sign-in let the guesses go on',
  );
  // A pause may just have ended: of many at once, each from another forged address, most are too early all the same.
  const forged = await Promise.all(
    Array.from({ length: 10 }, (_, i) =>
      app.request('POST', '/api/sign-in', {
        body: { name: 'vera', password: 'wrong' },
        from: '127.0.0.2',
        headers: { 'x-forwarded-for': `10.9.8.${i}` },
      }),
    ),
  );
  held(
    forged.filter((a) => a.status === 429).length >= 5,
    `of 10 forged addresses ${forged.filter((a) => a.status === 401).length} were checked`,
  );
}
