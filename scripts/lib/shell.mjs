import { spawn, spawnSync } from 'node:child_process';
import net from 'node:net';
import path from 'node:path';
import { fileURLToPath } from 'node:url';

/** The repository's root. */
export const ROOT = path.resolve(path.dirname(fileURLToPath(import.meta.url)), '../..');

export const isRoot = process.getuid?.() === 0;

/** Prints a line of progress. */
export function say(text) {
  process.stdout.write(`${text}\n`);
}

/** A problem to tell the person in plain words; no stack. */
export class Plain extends Error {}

/** Runs a program to its end; its output is shown only when it fails, unless `show`. */
export function run(command, args, options = {}) {
  return new Promise((resolve, reject) => {
    const { show, input, ...rest } = options;
    const child = spawn(command, args, {
      cwd: ROOT,
      ...rest,
      stdio: [input === undefined ? 'ignore' : 'pipe', show ? 'inherit' : 'pipe', show ? 'inherit' : 'pipe'],
    });
    let output = '';
    child.stdout?.on('data', (d) => (output += d));
    child.stderr?.on('data', (d) => (output += d));
    if (input !== undefined) child.stdin.end(input);
    child.on('error', (error) => reject(new Plain(`${command}: ${error.message}`)));
    child.on('close', (code) =>
      code === 0
        ? resolve(output)
        : reject(new Plain(`${command} ${args.join(' ').slice(0, 200)} ended with ${code}\n${output.slice(-4000)}`)),
    );
  });
}

export function has(program) {
  return spawnSync('sh', ['-c', `command -v ${program}`], { stdio: 'ignore' }).status === 0;
}

/** Whether a port of the loopback address can be bound. */
export function portFree(port) {
  return new Promise((resolve) => {
    const server = net.createServer();
    server.once('error', () => resolve(false));
    server.listen(port, '127.0.0.1', () => server.close(() => resolve(true)));
  });
}

/** The wanted port, or the next free one. */
export async function freePort(wanted) {
  for (let port = wanted; port < wanted + 200; port++) if (await portFree(port)) return port;
  throw new Plain(`no port from ${wanted} to ${wanted + 199} is free`);
}

export const sleep = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

export function alive(pid) {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return error.code === 'EPERM';
  }
}

/** Runs the main function of a script; a plain problem ends it with its words and exit code 1. */
export async function main(body) {
  try {
    await body();
  } catch (error) {
    process.stderr.write(`${error instanceof Plain ? error.message : error.stack}\n`);
    process.exit(1);
  }
}
