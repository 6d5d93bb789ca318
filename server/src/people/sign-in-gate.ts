import { Injectable } from '@nestjs/common';
import { InjectDataSource } from '@nestjs/typeorm';
import { createHash } from 'node:crypto';
import { RateLimiterPostgres } from 'rate-limiter-flexible';
import { DataSource } from 'typeorm';
import { Problem } from '../shared/problem.js';
import { Turns } from '../shared/turns.js';

/** Wrong attempts of a name from an address that cost nothing but themselves. */
const FREE = 5;
/** Wrong attempts are forgotten after this time, and by nothing else. */
const REMEMBERED_SECONDS = 3600;
const LONGEST_PAUSE_SECONDS = 300;
/** Checking a password takes a processor for a while: at most so many at a time, in all and from one address. */
const AT_A_TIME = 4;
const AT_A_TIME_FROM_ADDRESS = 2;
const PATIENCE_MILLISECONDS = 5000;

/** Seconds to wait after the n-th wrong attempt: 1, 2, 4, 8 … once the free ones are used up. */
export const pauseAfter = (attempts: number): number =>
  attempts <= FREE ? 0 : Math.min(LONGEST_PAUSE_SECONDS, 2 ** (attempts - FREE - 1));

/**
 * Slows down who guesses passwords or tokens. Attempts are counted for a name and an address together, so that
 * nobody is locked out by somebody else; before they are checked, so that many at once count, too; and given
 * back if they were right.
 */
@Injectable()
export class SignInGate {
  private readonly attempts: RateLimiterPostgres;
  private readonly pauses: RateLimiterPostgres;
  private readonly turns = new Turns(AT_A_TIME, AT_A_TIME_FROM_ADDRESS, PATIENCE_MILLISECONDS);

  constructor(@InjectDataSource() source: DataSource) {
    const limiter = (keyPrefix: string, points: number) =>
      new RateLimiterPostgres({
        storeClient: source,
        storeType: 'typeorm',
        keyPrefix,
        tableName: 'sign_in_attempt',
        tableCreated: true,
        points,
        duration: REMEMBERED_SECONDS,
      });
    this.attempts = limiter('attempts', 1_000_000_000);
    this.pauses = limiter('pause', 1);
  }

  /**
   * Checks what somebody gives for a name.
   * @param check undefined for a wrong one
   * @throws Problem 429 while it is too early
   */
  async through<T>(name: string, address: string, check: () => Promise<T | undefined>): Promise<T | undefined> {
    const end = await this.turns.turn(address);
    if (!end) throw tooMany(PATIENCE_MILLISECONDS / 1000);
    try {
      const key = createHash('sha256')
        .update(JSON.stringify([name, address]))
        .digest('base64url');
      const pause = await this.pauses.get(key);
      if (pause && pause.msBeforeNext > 0) throw tooMany(Math.ceil(pause.msBeforeNext / 1000));
      const { consumedPoints } = await this.attempts.consume(key);
      const seconds = pauseAfter(consumedPoints);
      if (seconds > 0) await this.pauses.block(key, seconds);
      const giveBack = async () => {
        await this.attempts.reward(key);
        if (seconds > 0) await this.pauses.delete(key);
      };
      // Where it cannot be checked, it was no wrong attempt.
      const found = await check().catch(async (error: unknown) => {
        await giveBack().catch(() => undefined);
        throw error;
      });
      if (found !== undefined) await giveBack();
      return found;
    } finally {
      end();
    }
  }
}

const tooMany = (seconds: number) =>
  new Problem(
    429,
    'too-many-attempts',
    'Too many attempts to sign in',
    `Wait ${seconds === 1 ? 'a second' : `${seconds} seconds`}, then try again.`,
    {
      retryAfter: seconds,
    },
  );
