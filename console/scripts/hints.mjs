// Writes what the service's description says of the fields of reports and jobs as the hints
// that their editors are built from: what can be told to the service has its field.
import { readFileSync, writeFileSync } from 'node:fs';

const roots = ['JobRequest', 'ReportRequest'];
const { schemas } = JSON.parse(readFileSync('../internal/api/openapi.json', 'utf8')).components;
const refOf = (s) => s?.$ref?.split('/').pop();

/** The form in which a field is written. */
function form(s) {
  const of = refOf(s);
  if (of) return { form: 'one', of };
  const type = Array.isArray(s.type) ? s.type.find((t) => t !== 'null') : s.type;
  if (s.enum) return { form: 'choice', choices: s.enum };
  switch (type) {
    case 'string':
      return { form: (s.maxLength ?? 0) > 1000 ? 'long' : 'text' };
    case 'integer':
      return { form: 'whole' };
    case 'number':
      return { form: 'number' };
    case 'boolean':
      return { form: 'flag' };
    case 'array': {
      const item = refOf(s.items);
      if (item) return { form: 'many', of: item };
      return s.items.enum ? { form: 'choices', choices: s.items.enum } : { form: 'list' };
    }
    case 'object':
      return { form: s.additionalProperties?.type === 'string' ? 'pairs' : 'values' };
  }
  return { form: 'any' };
}

const hints = {};
const waiting = [...roots];
while (waiting.length) {
  const name = waiting.pop();
  if (hints[name]) continue;
  const { properties, required = [] } = schemas[name];
  hints[name] = {};
  for (const [field, s] of Object.entries(properties)) {
    if (field === '$schema' || s.readOnly || s.description?.includes('given by the service')) continue;
    const f = form(s);
    if (f.of) waiting.push(f.of);
    hints[name][field] = {
      ...f,
      ...(s.description && { help: s.description }),
      ...(required.includes(field) && { needed: true }),
      ...(s.maxLength && { longest: s.maxLength }),
    };
  }
}
writeFileSync(
  'src/lib/editing/hints.gen.ts',
  `// Made from the service's description by scripts/hints.mjs.
import type { Hint } from './hint';

export const hints: Record<string, Record<string, Hint>> = ${JSON.stringify(hints, null, 1)};
`,
);
