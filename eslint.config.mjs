import reactHooks from 'eslint-plugin-react-hooks';
import tseslint from 'typescript-eslint';

/** The words of the language that are compared nowhere but in `core/src/language`: everybody else asks its tables and `LoadSpec`. */
const ROLE_NAMES =
  'surrogate key|durable key|valid from|valid to|current flag|version number|row hash|loaded at|run id|deleted flag';
const onePlace = (selector) => ({
  selector,
  message: 'ask core/src/language (POLICIES, hasRole, specOf) instead of comparing a word of the language',
});
const LANGUAGE_SAID_ONCE = [
  onePlace("BinaryExpression[operator=/^[!=]==$/]:has(> Literal) > MemberExpression[property.name='policy']"),
  onePlace(`BinaryExpression[operator=/^[!=]==$/] > Literal[value=/^(${ROLE_NAMES})$/]`),
  onePlace(`CallExpression[callee.property.name='includes'] ArrayExpression > Literal[value=/^(${ROLE_NAMES})$/]`),
  onePlace("CallExpression[callee.property.name='includes'] > MemberExpression[property.name='policy']"),
];

/** What happens is stamped and told by one clock, which in the demo is not the machine's. */
const ONE_CLOCK = {
  selector: "NewExpression[callee.name='Date'][arguments.length=0]",
  message: 'take currentTime() or present(); new Date(Date.now()) where the real time is meant',
};

/** Words that texts for users do without. */
const DROPPED =
  '\\b(anew|mend(s|ed|ing)?|of which|that it may be|comes? about|told)\\b|\\bstands?\\b(?!-)|\\b(takes?|taken|took) (over|away)\\b|(?<!here )\\b(is|are) no (?!longer)';
const PLAIN_WORDS = [
  `Literal[value=/${DROPPED}/i]`,
  `TemplateElement[value.cooked=/${DROPPED}/i]`,
  `JSXText[value=/${DROPPED}/i]`,
].map((selector) => ({ selector, message: 'say it in plain, idiomatic English' }));

/** Exported functions and methods that others call: many arguments or a bare true say nothing where they are called. */
const isOffered =
  ':matches(ExportNamedDeclaration > FunctionDeclaration, ExportNamedDeclaration > VariableDeclaration > VariableDeclarator > ArrowFunctionExpression, MethodDefinition[accessibility!=private][kind=method] > FunctionExpression)';
const FEW_PARAMETERS = [
  {
    selector: `${isOffered}[params.length>4]`,
    message: 'an exported function takes four parameters at most: put them together',
  },
  ...[
    'Identifier.params[typeAnnotation.typeAnnotation.type=TSBooleanKeyword]',
    'AssignmentPattern.params > Literal[raw=/^(true|false)$/]',
  ].map((bare) => ({
    selector: `${isOffered} > ${bare}`,
    message: 'an exported function takes no boolean: name what it means',
  })),
];

export default tseslint.config(
  { ignores: ['**/dist/**', '.data/**', '.build/**', 'node_modules/**', 'test-results/**'] },
  ...tseslint.configs.recommended,
  {
    rules: {
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      '@typescript-eslint/no-unused-expressions': ['error', { allowShortCircuit: true, allowTernary: true }],
      eqeqeq: 'error',
      'no-console': 'error',
    },
  },
  {
    files: ['{api,cli,core,server,web,demo}/src/**/*.{ts,tsx}'],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      '@typescript-eslint/no-floating-promises': 'error',
      '@typescript-eslint/switch-exhaustiveness-check': ['error', { considerDefaultExhaustiveForUnions: true }],
    },
  },
  {
    files: ['web/src/**/*.{ts,tsx}'],
    plugins: { 'react-hooks': reactHooks },
    rules: { 'react-hooks/rules-of-hooks': 'error', 'react-hooks/exhaustive-deps': 'error' },
  },
  {
    files: ['{cli,core,server,web}/src/**/*.{ts,tsx}'],
    ignores: ['core/src/language/**', '**/*.test.{ts,tsx}', 'server/src/policies/**'],
    rules: { 'no-restricted-syntax': ['error', ...LANGUAGE_SAID_ONCE, ...FEW_PARAMETERS, ...PLAIN_WORDS, ONE_CLOCK] },
  },
  // Nest calls routes, with what was asked for apart by decorators.
  {
    files: ['server/src/**/*.controller.ts', 'server/src/testing*.ts'],
    rules: { 'no-restricted-syntax': ['error', ...LANGUAGE_SAID_ONCE, ...PLAIN_WORDS, ONE_CLOCK] },
  },
  // What a route answers is said by a type of `@ouvrage/api`.
  {
    files: ['server/src/**/*.{controller,module}.ts'],
    rules: { '@typescript-eslint/explicit-module-boundary-types': 'error' },
  },
  { files: ['**/*.cjs'], rules: { '@typescript-eslint/no-require-imports': 'off' } },
  { files: ['bench/**'], rules: { 'no-console': 'off' } },
);
