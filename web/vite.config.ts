import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defaultClientConditions, defineConfig, type Plugin } from 'vite';

/**
 * The parser's glue file is CommonJS and looks for its wasm beside the script: gives it a default
 * export and the address of the wasm that the build emits. Fails the build when the file has changed.
 */
function parserWasm(): Plugin {
  const footer = /if\(typeof exports==="object"&&typeof module==="object"\)\{module\.exports=PgQueryModule;.*$/s;
  const head = 'return async function(moduleArg={}){var Module=moduleArg;';
  return {
    name: 'parser-wasm',
    transform(code, id) {
      if (!/libpg-query\/wasm\/libpg-query\.js(\?|$)/.test(id)) return undefined;
      if (!footer.test(code) || !code.includes(head))
        this.error('libpg-query’s glue file has changed: its wasm would not be found');
      const located = code.replace(head, `${head}Module.locateFile??=()=>wasmAddress;`);
      return {
        code: `import wasmAddress from './libpg-query.wasm?url';\n${located.replace(footer, 'export default PgQueryModule;')}`,
        map: null,
      };
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), parserWasm()],
  worker: { format: 'es', plugins: () => [parserWasm()] },
  resolve: {
    conditions: ['source', ...defaultClientConditions],
    // The library's build for browsers brings what only Node has.
    alias: { 'csv-parse/sync': 'csv-parse/browser/esm/sync' },
  },
  optimizeDeps: { exclude: ['libpg-query'], include: ['@pgsql/types'] },
  build: { target: 'es2022', chunkSizeWarningLimit: 2000, assetsInlineLimit: 0 },
  html: { cspNonce: '__NONCE__' },
  server: { proxy: { '/api': 'http://127.0.0.1:4100' } },
});
