import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import ts from 'typescript';
import { ROOT } from './lib/shell.mjs';

/**
 * Writes `server/dist/answers.json`: what each route answers, as JSON Schema, read from the types of the controllers'
 * methods as the compiler knows them, and every problem that the server's code names. The description of the API is
 * made from it, so that it cannot say anything else than what is answered.
 */
const SERVER = path.join(ROOT, 'server');
const VERBS = new Set(['Get', 'Post', 'Put', 'Delete', 'Patch', 'All', 'Sse']);

const { config } = ts.readConfigFile(path.join(SERVER, 'tsconfig.json'), ts.sys.readFile);
const { options } = ts.parseJsonConfigFileContent(config, ts.sys, SERVER);
const files = readdirSync(path.join(SERVER, 'src'), { recursive: true })
  .map((f) => path.join(SERVER, 'src', f))
  .filter((f) => f.endsWith('.ts') && !f.endsWith('.test.ts'));
const controllers = files.filter((f) => /@Controller\(/.test(readFileSync(f, 'utf8')));
const program = ts.createProgram(controllers, options);
const checker = program.getTypeChecker();

/** Schemas of named types, by name, and the type that has the name. */
const schemas = {};
const named = new Map();

/** The name that a type is described under; undefined for what is described in place. */
function nameOf(type) {
  const symbol = type.aliasSymbol ?? type.symbol;
  const generic = type.aliasTypeArguments?.length || (type.target && checker.getTypeArguments(type).length);
  const file = symbol?.declarations?.[0]?.getSourceFile().fileName ?? '';
  if (!symbol || generic || symbol.name.startsWith('__') || file.includes('/node_modules/typescript/'))
    return undefined;
  let name = symbol.name;
  for (let n = 2; named.has(name) && named.get(name) !== type; n++) name = `${symbol.name}${n}`;
  return name;
}

const isNothing = (type) => (type.flags & (ts.TypeFlags.Undefined | ts.TypeFlags.Void)) !== 0;

/** JSON Schema of a type, as `JSON.stringify` writes its values. @throws Error for what has no such form */
function schemaOf(type, where) {
  if (type.flags & (ts.TypeFlags.Any | ts.TypeFlags.Unknown)) return {};
  if (type.flags & ts.TypeFlags.Null) return { type: 'null' };
  if (type.isStringLiteral() || type.isNumberLiteral()) return { const: type.value };
  if (type.flags & ts.TypeFlags.BooleanLiteral) return { const: checker.typeToString(type) === 'true' };
  // The only texts with a form of their own are instants.
  if (type.flags & ts.TypeFlags.TemplateLiteral) return { type: 'string', format: 'date-time' };
  if (type.flags & ts.TypeFlags.StringLike) return { type: 'string' };
  if (type.flags & ts.TypeFlags.NumberLike) return { type: 'number' };
  if (type.flags & ts.TypeFlags.Boolean) return { type: 'boolean' };
  const name = nameOf(type);
  if (name === 'Date') return { type: 'string', format: 'date-time' };
  if (type.symbol?.name === 'Date') return { type: 'string', format: 'date-time' };
  if (name === undefined) return structure(type, where);
  if (!named.has(name)) {
    named.set(name, type);
    schemas[name] = {};
    schemas[name] = structure(type, name);
  }
  return { $ref: `#/components/schemas/${name}` };
}

function structure(type, where) {
  if (type.isUnion()) return union(type.types, where);
  if (checker.isTupleType(type) || checker.isArrayType(type)) {
    const items = checker.getTypeArguments(type).map((t) => schemaOf(t, where));
    return checker.isArrayType(type)
      ? { type: 'array', items: items[0] }
      : { type: 'array', minItems: items.length, maxItems: items.length, items: { anyOf: items } };
  }
  if (['Map', 'Set', 'ReadonlyMap', 'ReadonlySet', 'Promise'].includes(type.symbol?.name))
    throw new Error(`${where} answers a ${type.symbol.name}, which JSON cannot hold`);
  if (!(type.flags & (ts.TypeFlags.Object | ts.TypeFlags.Intersection | ts.TypeFlags.NonPrimitive)))
    throw new Error(`${where}: no schema for ${checker.typeToString(type)}`);
  const properties = {};
  const required = [];
  for (const property of checker.getPropertiesOfType(type)) {
    const of = checker.getTypeOfSymbol(property);
    if (of.getCallSignatures().length > 0 || property.name.startsWith('__@')) continue;
    const kinds = of.isUnion() ? of.types : [of];
    const there = kinds.filter((t) => !isNothing(t));
    if (there.length === 0) continue;
    const schema =
      there.length === kinds.length
        ? schemaOf(of, `${where}.${property.name}`)
        : union(there, `${where}.${property.name}`);
    const text = ts.displayPartsToString(property.getDocumentationComment(checker));
    properties[property.name] = text
      ? schema.$ref
        ? { allOf: [schema], description: text }
        : { ...schema, description: text }
      : schema;
    if (there.length === kinds.length && !(property.flags & ts.SymbolFlags.Optional)) required.push(property.name);
  }
  const others = checker.getIndexInfosOfType(type).find((i) => i.keyType.flags & ts.TypeFlags.StringLike);
  return {
    type: 'object',
    ...(Object.keys(properties).length ? { properties } : {}),
    ...(required.length ? { required } : {}),
    ...(others ? { additionalProperties: schemaOf(others.type, `${where}.*`) } : {}),
  };
}

function union(types, where) {
  const literals = types.filter((t) => t.isStringLiteral() || t.isNumberLiteral());
  const isBoolean = types.filter((t) => t.flags & ts.TypeFlags.BooleanLiteral).length === 2;
  const others = types.filter(
    (t) => !literals.includes(t) && !isNothing(t) && !(isBoolean && t.flags & ts.TypeFlags.BooleanLiteral),
  );
  const any = [
    ...(literals.length ? [{ type: typeof literals[0].value, enum: literals.map((t) => t.value) }] : []),
    ...(isBoolean ? [{ type: 'boolean' }] : []),
    ...others.map((t) => schemaOf(t, where)),
  ];
  return any.length === 1 ? any[0] : { anyOf: any };
}

const decoratorsOf = (node) =>
  (ts.canHaveDecorators(node) ? (ts.getDecorators(node) ?? []) : [])
    .map((d) => d.expression)
    .filter(ts.isCallExpression);
const decorator = (node, names) => decoratorsOf(node).find((call) => names.has(call.expression.getText()));

/** The type T of a method that is declared to return `Promise<Sent<T>>`: what is answered, as the API's types name it. */
function sentType(node) {
  const inner = (of, name) =>
    of && ts.isTypeReferenceNode(of) && of.typeName.getText() === name ? of.typeArguments?.[0] : undefined;
  const sent = inner(inner(node, 'Promise'), 'Sent');
  return sent && checker.getTypeFromTypeNode(sent);
}

/** What is answered by each method of a controller that is a route, by the name that its operation has. */
const answers = {};
for (const source of program.getSourceFiles().filter((f) => controllers.includes(f.fileName))) {
  ts.forEachChild(source, (node) => {
    if (!ts.isClassDeclaration(node) || !decorator(node, new Set(['Controller']))) return;
    for (const member of node.members) {
      if (!ts.isMethodDeclaration(member) || !decorator(member, VERBS)) continue;
      const id = `${node.name.text}_${member.name.getText()}`;
      const returned = checker.getReturnTypeOfSignature(checker.getSignatureFromDeclaration(member));
      const type = sentType(member.type) ?? checker.getAwaitedType(returned) ?? returned;
      const summary = ts.displayPartsToString(
        checker.getSymbolAtLocation(member.name).getDocumentationComment(checker),
      );
      const kinds = (type.isUnion() ? type.types : [type]).filter((t) => !isNothing(t));
      const isStream = type.symbol?.name === 'Observable';
      answers[id] = {
        ...(summary ? { summary } : {}),
        ...(kinds.length && !isStream
          ? { schema: kinds.length > 1 || type.isUnion() ? union(kinds, id) : schemaOf(type, id) }
          : {}),
      };
    }
  });
}

/** Each problem that the code names: its stable word, and the statuses that it comes with. */
const problems = {};
for (const file of files)
  for (const [, status, code] of readFileSync(file, 'utf8').matchAll(/new Problem\(\s*(\d{3}),\s*'([a-z-]+)'/g))
    problems[code] = [...new Set([...(problems[code] ?? []), Number(status)])].sort();

writeFileSync(
  path.join(SERVER, 'dist/answers.json'),
  JSON.stringify({ answers, schemas, problems: Object.fromEntries(Object.entries(problems).sort()) }, undefined, 1),
);
