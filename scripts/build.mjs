import { build } from './lib/build.mjs';
import { main } from './lib/shell.mjs';

await main(() => build());
