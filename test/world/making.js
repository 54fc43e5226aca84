// Fills an editor's sheet as somebody would: opens what is folded, presses, types. It finds a
// field by its path in the record, and says what has no field.
(() => {
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
  const at = (path) => document.querySelector(`[data-path="${path}"]`);

  async function until(what, holds) {
    for (let n = 0; n < 400; n++) {
      const found = holds();
      if (found) return found;
      await wait(25);
    }
    throw new Error(`waited in vain for ${what}`);
  }

  function unfold(element) {
    for (let up = element; up; up = up.parentElement) if (up instanceof HTMLDetailsElement) up.open = true;
  }

  async function field(path) {
    const found = await until(`the field ${path}`, () => at(path));
    unfold(found);
    return found;
  }

  const press = async (button) => {
    button.click();
    await wait(0);
  };

  function type(input, text) {
    const kind = input instanceof HTMLTextAreaElement ? HTMLTextAreaElement : HTMLInputElement;
    Object.getOwnPropertyDescriptor(kind.prototype, 'value').set.call(input, text);
    input.dispatchEvent(new Event('input', { bubbles: true }));
    input.dispatchEvent(new Event('change', { bubbles: true }));
  }

  function choose(select, word) {
    if (![...select.options].some((o) => o.value === word)) throw new Error(`${word} is not offered`);
    select.value = word;
    select.dispatchEvent(new Event('change', { bubbles: true }));
  }

  async function query(element, text) {
    const content = await until('the editor of queries', () => element.querySelector('.cm-content'));
    content.focus();
    document.getSelection().selectAllChildren(content);
    document.execCommand('insertText', false, text);
    await wait(0);
  }

  const own = (element, path, selector) =>
    [...element.querySelectorAll(selector)].filter((x) => x.closest('[data-path]') === at(path));

  async function list(path, all) {
    const element = await field(path);
    if (all.every((one) => typeof one !== 'object')) return words(path, element, all.map(String));
    if (path.endsWith('.sections') && path.includes('outputs')) return sections(path, element, all);
    // Each that stands there already is taken out first.
    for (;;) {
      const there = at(`${path}[0]`);
      const remove = there && own(there, `${path}[0]`, 'button').find((b) => b.textContent.trim() === 'Remove');
      if (!remove) break;
      await press(remove);
    }
    for (const [i, one] of all.entries()) {
      const add = await until(`a way to add to ${path}`, () =>
        own(at(path), path, 'button').find((b) => b.textContent.trim().startsWith('Add ')),
      );
      await press(add);
      await record(`${path}[${i}]`, one);
    }
  }

  async function sections(path, element, all) {
    for (const [i, one] of all.entries()) {
      const chip = await until(`the section ${one.section}, to be offered at ${path}`, () =>
        [...element.querySelectorAll('.chip')].find((b) => b.textContent.trim() === one.section),
      );
      if (chip.getAttribute('aria-pressed') !== 'true') await press(chip);
      else {
        // The same section once more, in another form.
        await press([...element.querySelectorAll('button')].find((b) => b.textContent.trim() === 'Add section'));
        await fill(`${path}[${i}].section`, one.section);
      }
      const { section, ...more } = one;
      if (section && Object.keys(more).length) await record(`${path}[${i}]`, more);
    }
  }

  async function words(path, element, all) {
    if (own(element, path, '[role=group]:not(:has(input)):not(.field-parts)').length) {
      for (const word of all) {
        const chip = await until(`${word}, to be offered at ${path}`, () =>
          own(element, path, '.chip').find((b) => b.textContent.trim() === word),
        );
        if (chip.getAttribute('aria-pressed') !== 'true') await press(chip);
      }
      return;
    }
    const boxes = own(element, path, 'input[type=checkbox]');
    if (boxes.length) {
      for (const word of all) {
        const box = boxes.find((b) => b.parentElement.textContent.trim() === word);
        if (!box) throw new Error(`${word} is not offered at ${path}`);
        if (!box.checked) await press(box);
      }
      return;
    }
    const lines = own(element, path, 'textarea')[0];
    if (lines) return type(lines, all.join('\n'));
    const input = own(element, path, 'input')[0];
    if (!input) throw new Error(`nothing can be written at ${path}`);
    if (!input.list) return type(input, all.join(', '));
    for (const word of all) {
      type(input, word); // recipients, one by one
      await wait(0);
    }
  }

  // What others depend on is told first, as somebody at the screen would.
  const first = ['name', 'type', 'kind', 'form', 'sql', 'format', 'section'];
  const rank = (name) => (first.includes(name) ? first.indexOf(name) : first.length);

  async function record(path, all, leave = []) {
    const order = Object.entries(all).sort(([a], [b]) => rank(a) - rank(b));
    for (const [name, value] of order)
      if (!leave.includes(name)) await fill(path ? `${path}.${name}` : name, value);
  }

  async function fill(path, value) {
    if (Array.isArray(value)) return list(path, value);
    const element = await field(path);
    if (typeof value === 'object') {
      const lines = own(element, path, 'textarea')[0];
      if (lines) return type(lines, Object.entries(value).map(([k, v]) => `${k}: ${v}`).join('\n'));
      return record(path, value);
    }
    if (/(^|\.)sql$/.test(path)) return query(element, value);
    const box = own(element, path, 'input[type=checkbox]')[0];
    if (box) return box.checked === value ? undefined : press(box);
    const select = own(element, path, 'select')[0];
    if (select) return choose(select, String(value));
    const input = own(element, path, 'input, textarea')[0];
    if (!input) throw new Error(`nothing can be written at ${path}`);
    type(input, String(value));
    await wait(0);
  }

  const button = (text, inside = document) =>
    [...inside.querySelectorAll('button')].find((b) => b.textContent.trim() === text);

  async function report(name, d) {
    type((await field('name')).querySelector('input'), name);
    await record('', d, ['sections', 'parameters', 'workbooks']);
    if (d.parameters) await list('parameters', d.parameters);
    for (const [i, s] of d.sections.entries()) {
      const kind = s.kind ?? 'table';
      if (i > 0) {
        const group = document.querySelector('[aria-label="Sections of the report"]');
        await press(button(kind === 'figures' ? 'figures' : `a ${kind}`, group));
      }
      if (i === 0 && kind !== 'table') await fill(`sections[0].kind`, kind);
      await record(`sections[${i}]`, s, ['columns', 'kind']);
      for (const [k, c] of (s.columns ?? []).entries()) {
        const chip = await until(`the column ${c.name}`, () =>
          [...document.querySelectorAll('[aria-label=Columns] .chip')].find(
            (b) => b.firstChild.textContent.trim() === c.name,
          ),
        );
        if (chip.getAttribute('aria-pressed') !== 'true') await press(chip);
        await record(`sections[${i}].columns[${k}]`, c, ['name']);
      }
    }
    for (const [i, w] of (d.workbooks ?? []).entries()) {
      const input = await until('a place for a workbook', () =>
        [...document.querySelectorAll('[aria-label=Workbooks] label')].find((l) => /^Send a (further )?workbook/.test(l.textContent)),
      );
      const sent = new DataTransfer();
      sent.items.add(new File([Uint8Array.from(atob(w.data), (c) => c.charCodeAt(0))], 'book.xlsx'));
      input.querySelector('input').files = sent.files;
      input.querySelector('input').dispatchEvent(new Event('change', { bubbles: true }));
      await record(`workbooks[${i}]`, w, ['file', 'data']);
    }
  }

  const adds = {
    report: 'A report',
    deliver: 'A mail or files to a place',
    collect: 'Pick up files',
    fetch: 'Fetch a file',
    convert: 'Convert files',
    query: 'A statement',
    program: 'A program',
    call: 'Call an address',
    emit: 'Raise an event',
  };

  async function job(name, d) {
    type((await field('name')).querySelector('input'), name);
    for (let remove; (remove = document.querySelector('[aria-label^="Remove this task"]')); ) await press(remove);
    for (const [i, t] of d.tasks.entries()) {
      await press(button(adds[t.kind]));
      const path = `tasks[${i}]`;
      await record(path, t, ['kind', 'after', t.kind]);
      if (t.after) {
        const way = (await field(path)).querySelector('select[id$="-way"]');
        unfold(way);
        choose(way, t.after.length ? 'some' : 'once');
        await wait(0);
        const group = way.parentElement.querySelector('[role=group]');
        for (const chip of group ? group.querySelectorAll('.chip') : [])
          if ((chip.getAttribute('aria-pressed') === 'true') !== t.after.includes(chip.textContent.trim()))
            await press(chip);
      }
      const first = t.kind === 'deliver' || t.kind === 'call' ? 'destination' : t.kind === 'report' ? 'report' : '';
      if (first) await fill(`${path}.${t.kind}.${first}`, t[t.kind][first]);
      await record(`${path}.${t.kind}`, t[t.kind], [first]);
    }
    await record('', d, ['tasks', 'triggers', 'values', 'on']);
    if (!d.retry) for (const name of ['times', 'wait']) await fill(`retry.${name}`, '');
    for (let remove; (remove = document.querySelector('[aria-label^="Remove trigger"]')); ) await press(remove);
    for (const [i, t] of (d.triggers ?? []).entries()) {
      await press(button(t.rule === undefined ? 'Add a start by an event, a file or a job' : 'Add a rule'));
      const path = `triggers[${i}]`;
      await record(path, t, ['values']);
      if (t.values) await record(`${path}.values`, t.values);
    }
    if (d.values) await record('values', d.values);
  }

  window.making = { report, job, until, button };
})();
