// The station's page. It asks the same interface as everybody (/openapi/v1.json), and is told of changes by server-sent events.
const main = document.getElementById('main');
const dialog = document.getElementById('dialog');
const states = ['waiting', 'failed', 'working', 'ready', 'stopped', 'done', 'checked', 'new'];
const roles = ['viewer', 'technician', 'administrator'];
let caller = null;
let machines = [];
let images = [];
let feed = null;
let shown = { state: '', text: '', site: '', picked: new Set() };

// Elements; whatever comes from outside is text and never markup.
function make(name, attributes = {}, ...children) {
  const element = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) {
    if (key.startsWith('on')) element.addEventListener(key.slice(2), value);
    else if (value === true) element.setAttribute(key, '');
    else if (value !== false && value !== null && value !== undefined) element.setAttribute(key, value);
  }
  element.append(...children.flat().filter(c => c !== null && c !== undefined));
  return element;
}

function notice(text) {
  const place = document.getElementById('notice');
  place.textContent = text;
  clearTimeout(notice.timer);
  notice.timer = setTimeout(() => { place.textContent = ''; }, 8000);
}

async function ask(path, method = 'GET', body = undefined) {
  const answer = await fetch(path, {
    method,
    headers: { 'X-Station-Page': '1', ...(body === undefined ? {} : { 'Content-Type': 'application/json' }) },
    body: body === undefined ? undefined : JSON.stringify(body),
    credentials: 'same-origin',
  });
  const text = await answer.text();
  const told = text ? JSON.parse(text) : null;
  if (answer.ok) return told;
  if (answer.status === 401 && caller) { caller = null; show(); }
  // What a hint says of commands helps nobody here.
  const hint = /--|`/.test(told?.hint ?? '') ? '' : told?.hint;
  throw Object.assign(new Error([told?.title ?? `the station answers ${answer.status}`, hint, ...(told?.details ?? [])]
    .filter(Boolean).join('\n')), { problem: told });
}

const may = role => caller && roles.indexOf(caller.role) >= roles.indexOf(role);
const nameOf = machine => machine.assignment.name || machine.id;
const title = machine => machine.title || machine.assignment.image || '';

function size(bytes) {
  const units = ['bytes', 'KiB', 'MiB', 'GiB', 'TiB'];
  let unit = 0;
  while (bytes >= 1024 && unit < units.length - 1) { bytes /= 1024; unit++; }
  return unit === 0 ? `${bytes} bytes` : `${bytes.toFixed(1)} ${units[unit]}`;
}

function duration(seconds) {
  if (seconds < 60) return `${Math.ceil(seconds)} s`;
  return `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, '0')} min`;
}

function time(text) {
  const date = new Date(text);
  return make('time', { datetime: text, title: date.toString() }, date.toLocaleString('sv-SE'));
}

function ago(text) {
  if (!text) return 'never';
  const seconds = (Date.now() - new Date(text)) / 1000;
  return seconds < 60 ? 'now' : seconds < 3600 ? `${Math.floor(seconds / 60)} min ago`
    : seconds < 86400 ? `${Math.floor(seconds / 3600)} h ago` : new Date(text).toLocaleDateString('sv-SE');
}

const stateMark = state => make('span', { class: `state ${state}` }, state);

function progressOf(machine) {
  const progress = machine.progress;
  if (!progress) return [];
  const part = progress.total > 0 ? Math.floor(100 * progress.done / progress.total) : null;
  const words = [progress.phase];
  if (part !== null) words.push(`${part} %`);
  if (progress.bytesPerSecond > 0) words.push(`${size(progress.bytesPerSecond)}/s`);
  if (progress.secondsLeft > 0) words.push(`${duration(progress.secondsLeft)} left`);
  return [make('progress', { max: 100, value: part, 'aria-label': `${nameOf(machine)}: ${words.join(', ')}` }),
    make('div', { class: 'small soft' }, words.join(' · '))];
}

// Signing in.
function signIn() {
  const problem = make('p', { class: 'problem', role: 'alert' });
  const token = make('input', { type: 'password', id: 'token', autocomplete: 'current-password', required: true });
  main.replaceChildren(make('form', {
    class: 'card sign',
    onsubmit: async event => {
      event.preventDefault();
      try {
        caller = await ask('/api/session', 'POST', { token: token.value.trim() });
        await begin();
      } catch (failure) { problem.textContent = failure.message; token.select(); }
    },
  }, make('h2', {}, 'Sign in'), make('label', { for: 'token' }, 'Token', token),
    make('p', { class: 'soft small' }, 'Tokens are made with `vembar station token add`.'), problem,
    make('div', { class: 'row' }, make('button', { class: 'main' }, 'Sign in'))));
  token.focus();
}

// Machines.
function matching() {
  const text = shown.text.toLowerCase();
  return machines.filter(m => (!shown.state || m.state === shown.state) && (!shown.site || m.assignment.site === shown.site)
    && (!text || [m.id, nameOf(m), m.model, m.assignment.site, title(m), m.identity.serial, m.identity.uuid, ...m.identity.addresses]
      .some(w => w.toLowerCase().includes(text))));
}

function machineRow(machine) {
  return make('tr', { 'data-machine': machine.id },
    make('td', { class: 'pick' }, may('technician') ? make('input', {
      type: 'checkbox', 'aria-label': `Choose ${nameOf(machine)}`, checked: shown.picked.has(machine.id),
      onchange: event => { shown.picked[event.target.checked ? 'add' : 'delete'](machine.id); tools(); },
    }) : null),
    make('td', {}, make('a', { href: `#/machines/${machine.id}` }, nameOf(machine)),
      make('div', { class: 'small soft' }, machine.identity.serial || machine.identity.addresses[0] || machine.id)),
    make('td', {}, stateMark(machine.state)),
    make('td', {}, machine.model),
    make('td', {}, machine.assignment.site),
    make('td', {}, title(machine)),
    make('td', {}, ...progressOf(machine), machine.progress ? null : machine.remark),
    make('td', { class: 'number soft' }, ago(machine.seen)));
}

function tools() {
  const picked = machines.filter(m => shown.picked.has(m.id));
  const button = document.getElementById('approve-picked');
  if (!button) return;
  button.disabled = picked.length === 0;
  button.textContent = picked.length > 1 ? `Approve ${picked.length} machines` : 'Approve';
}

function rows() {
  const body = document.getElementById('rows');
  if (!body) return;
  const focused = document.activeElement?.closest?.('tr')?.dataset.machine;
  const kind = document.activeElement?.tagName;
  const list = matching();
  body.replaceChildren(...list.map(machineRow));
  document.getElementById('none').hidden = list.length > 0;
  for (const button of document.querySelectorAll('.states button')) {
    const count = button.dataset.state ? machines.filter(m => m.state === button.dataset.state).length : machines.length;
    button.textContent = `${button.dataset.state || 'all'} ${count}`;
    button.setAttribute('aria-pressed', String(shown.state === button.dataset.state));
  }
  if (focused) body.querySelector(`[data-machine="${focused}"] ${kind === 'A' ? 'a' : 'input'}`)?.focus();
  tools();
}

function machinesPage() {
  const sites = [...new Set(machines.map(m => m.assignment.site).filter(Boolean))].sort();
  main.replaceChildren(make('h2', {}, 'Machines'),
    make('ul', { class: 'states', 'aria-label': 'States' }, ['', ...states].map(state => make('li', {}, make('button', {
      type: 'button', 'data-state': state, onclick: () => { shown.state = state; rows(); },
    })))),
    make('div', { class: 'tools' },
      make('label', {}, 'Search', make('input', { type: 'search', value: shown.text, id: 'search',
        oninput: event => { shown.text = event.target.value; rows(); } })),
      make('label', {}, 'Site', make('select', { onchange: event => { shown.site = event.target.value; rows(); } },
        make('option', { value: '' }, 'all'), sites.map(s => make('option', { value: s, selected: s === shown.site }, s)))),
      may('technician') ? make('button', { type: 'button', id: 'approve-picked', class: 'main',
        onclick: () => approve(machines.filter(m => shown.picked.has(m.id))) }, 'Approve') : null),
    make('table', { class: 'machines' }, make('thead', {}, make('tr', {}, make('th', { scope: 'col' },
      make('span', { class: 'skip' }, 'Choose')), ['Machine', 'State', 'Model', 'Site', 'Image', 'How far', 'Seen']
      .map(h => make('th', { scope: 'col', class: h === 'Seen' ? 'number' : '' }, h)))), make('tbody', { id: 'rows' })),
    make('p', { class: 'empty', id: 'none', hidden: true }, machines.length === 0
      ? 'No machine has joined yet. A machine joins with `vembar station join ADDRESS`.' : 'No machine is like that.'));
  rows();
}

// Approving one machine or several, each with its name.
function approve(chosen) {
  if (chosen.length === 0) return;
  const problem = make('p', { class: 'problem', role: 'alert' });
  const refusals = make('div');
  const offered = images.filter(i => i.isOffered);
  const choices = [...new Set(offered.flatMap(i => [`${i.archive}#${i.name}`, ...i.channels.map(c => `${i.archive}#${i.name}@${c}`)]))];
  const image = make('select', { id: 'image', required: true }, make('option', { value: '' }, 'choose'),
    choices.map(c => make('option', { value: c, selected: chosen.every(m => c.endsWith(`#${m.assignment.image}`)) }, c.split('#')[1])));
  const names = chosen.map(m => make('input', { value: m.assignment.name, maxlength: 15, 'aria-label': `Name of ${nameOf(m)}`,
    placeholder: 'computer name' }));
  const site = make('input', { value: chosen[0].assignment.site });
  const userFiles = make('select', { id: 'user-files' }, [['', 'as the station does'], ['keep', 'keep, and put back'], ['none', 'do not keep']]
    .map(([value, text]) => make('option', { value, selected: chosen.every(m => m.assignment.userFiles === value) }, text)));
  const accepted = () => [...refusals.querySelectorAll('input:checked')].map(i => i.value);
  const form = make('form', {
    onsubmit: async event => {
      event.preventDefault();
      problem.textContent = '';
      const failed = [];
      for (let at = 0; at < chosen.length; at++) {
        const machine = machines.find(m => m.id === chosen[at].id) ?? chosen[at];
        try {
          await ask(`/api/machines/${machine.id}/approve`, 'POST', {
            name: names[at].value || null, image: image.value, site: site.value, userFiles: userFiles.value, accept: accepted(),
          });
          shown.picked.delete(machine.id);
          names[at].disabled = true;
        } catch (failure) {
          failed.push(failure.message);
          for (const refusal of failure.problem?.refusals ?? []) {
            if (refusal.canBeAccepted && may('administrator') && !refusals.querySelector(`[value="${refusal.code}"]`))
              refusals.append(make('label', { class: 'inline' }, make('input', { type: 'checkbox', value: refusal.code }),
                `Set aside: ${refusal.text}`));
          }
        }
      }
      if (failed.length > 0) { problem.textContent = failed.join('\n\n'); chosen = chosen.filter((m, at) => !names[at].disabled); return refill(); }
      dialog.close();
      notice(names.length === 1 ? 'Approved.' : `${names.length} machines are approved.`);
      await refresh();
    },
  }, make('h2', { id: 'dialog-title' }, chosen.length === 1 ? `Approve ${nameOf(chosen[0])}` : `Approve ${chosen.length} machines`),
    make('label', { for: 'image' }, 'Image', image), make('label', {}, 'Site', site),
    make('label', { for: 'user-files' }, 'User files on the disk', userFiles),
    make('div', { class: 'names' }, chosen.map((m, at) => make('label', {},
      make('span', {}, `${m.model || 'unknown model'} ${m.identity.serial || m.id}`), names[at]))),
    refusals, problem, make('div', { class: 'row' },
      make('button', { type: 'button', onclick: () => dialog.close() }, 'Cancel'), make('button', { class: 'main' }, 'Approve')));
  function refill() {
    for (let at = names.length - 1; at >= 0; at--) {
      if (names[at].disabled) { names[at].closest('label').remove(); names.splice(at, 1); }
    }
  }
  dialog.replaceChildren(form);
  dialog.showModal();
  (names[0] ?? image).focus();
}

function confirmed(question, act) {
  dialog.replaceChildren(make('form', {
    onsubmit: async event => {
      event.preventDefault();
      dialog.close();
      try { await act(); await refresh(); } catch (failure) { notice(failure.message); }
    },
  }, make('h2', { id: 'dialog-title' }, question), make('div', { class: 'row' },
    make('button', { type: 'button', onclick: () => dialog.close() }, 'Cancel'), make('button', { class: 'danger' }, 'Yes'))));
  dialog.showModal();
}

// One machine.
const field = (name, ...value) => value.flat().filter(v => v !== '' && v !== null && v !== undefined).length === 0 ? []
  : [make('dt', {}, name), make('dd', {}, ...value)];

async function machinePage(id) {
  const [detail, events] = await Promise.all([ask(`/api/machines/${encodeURIComponent(id)}`),
    ask(`/api/machines/${encodeURIComponent(id)}/events`)]);
  const { machine, report, drivers, refusals, outcome } = detail;
  const act = (what, method = 'POST', path = `/${what}`) => () => ask(`/api/machines/${machine.id}${path}`, method);
  const buttons = !may('technician') ? [] : [
    make('button', { type: 'button', class: 'main', disabled: ['ready', 'working', 'new'].includes(machine.state),
      onclick: () => approve([machine]) }, 'Approve'),
    make('button', { type: 'button', disabled: !['ready', 'working'].includes(machine.state),
      onclick: () => confirmed(`Stop ${nameOf(machine)}?`, act('stop')) }, 'Stop'),
    make('button', { type: 'button', disabled: !['failed', 'stopped'].includes(machine.state),
      onclick: () => confirmed(`Have ${nameOf(machine)} do it again?`, act('retry')) }, 'Try again'),
    make('button', { type: 'button', onclick: () => act('wake')().then(() => notice('It was called.'), f => notice(f.message)) }, 'Wake'),
    make('button', { type: 'button', class: 'danger', onclick: () => confirmed(`Take ${nameOf(machine)} off the list?`,
      async () => { await act('forget', 'DELETE', '')(); location.hash = '#/machines'; }) }, 'Forget'),
  ];
  const result = outcome?.result;
  main.replaceChildren(
    make('p', {}, make('a', { href: '#/machines' }, '← Machines')),
    make('h2', {}, nameOf(machine), ' ', stateMark(machine.state)),
    machine.remark ? make('p', {}, machine.remark) : '',
    ...progressOf(machine), make('div', { class: 'tools' }, buttons),
    make('div', { class: 'cards' },
      make('section', { class: 'card' }, make('h3', {}, 'What it is'), make('dl', {},
        field('Model', machine.model), field('Serial', machine.identity.serial), field('UUID', machine.identity.uuid),
        field('Addresses', machine.identity.addresses.join(', ')), field('Site', machine.assignment.site),
        field('Image', title(machine)), field('User files', machine.assignment.userFiles), field('Firmware', report ? `${report.firmware}${report.secureBoot ? ', secure boot' : ''}` : ''),
        field('Memory', report ? size(report.memory) : ''), field('Since', time(machine.since)), field('Seen', ago(machine.seen)),
        (report?.disks ?? []).flatMap(d => field('Disk', `${d.path} ${d.model} ${size(d.bytes)}`,
          d.contents.map(c => make('div', { class: 'small soft' }, c))))),
        refusals.map(r => make('p', { class: 'problem' }, r.text))),
      make('section', { class: 'card' }, make('h3', {}, 'What happened'), make('ol', { class: 'log', tabindex: 0, 'aria-label': 'Events' },
        events.slice().reverse().map(e => make('li', {}, make('span', { class: 'soft', title: e.time },
          new Date(e.time).toLocaleTimeString('sv-SE')), make('span', { class: 'soft' }, e.kind),
          make('span', { class: e.level }, e.text, e.who ? make('span', { class: 'soft' }, ` (${e.who})`) : '')))))),
    drivers.length + (result?.drivers.length ?? 0) === 0 ? '' : make('section', {}, make('h3', {}, 'Devices'),
      make('table', {}, make('thead', {}, make('tr', {}, ['Device', 'Driver', 'Needed'].map(h => make('th', { scope: 'col' }, h)))),
        make('tbody', {}, (result?.drivers.length ? result.drivers : drivers).map(d => make('tr', {}, make('td', {}, d.device),
          make('td', { class: d.driver ? '' : 'failed' }, d.driver || ' none'), make('td', {}, d.needed ? 'yes' : '')))))),
    !outcome ? '' : make('section', { class: 'card', id: 'report' }, make('h3', {}, 'Report of the last task'),
      outcome.done ? '' : make('p', { class: 'problem' }, [outcome.problem, outcome.hint, ...outcome.details].filter(Boolean).join('\n')),
      !result ? '' : make('dl', {}, field('Image', `${result.title}`), field('Root', result.root), field('Name', result.computerName),
        field('Files', `${result.files.toLocaleString('en')} in ${size(result.bytes)}${result.readBack ? ', read back' : ''}`),
        field('Went on', result.resumed > 0 ? `${result.resumed.toLocaleString('en')} files were written before` : ''),
        field('Programs', result.programs.map(p => make('div', {}, p))),
        field('User files', result.userFiles.map(u => make('div', {},
          `${u.account}: ${u.files.toLocaleString('en')} files in ${u.to}${u.isProfile ? ', the profile' : ''}`))),
        field('Checks', result.checks.map(c => make('div', { class: c.isSo ? 'checked' : 'failed' }, ` ${c.text} ${c.isSo ? '' : c.found}`))),
        field('Times', result.phases.map(p => make('div', {}, `${p.phase}: ${p.seconds.toFixed(1)} s`))),
        field('Notes', result.warnings.map(w => make('div', {}, w))))));
}

// Waves: an image to many machines at once.
function waveProgress(wave) {
  const part = wave.bytes > 0 ? Math.floor(100 * wave.sent / wave.bytes) : null;
  if (part === null || wave.state === 'waiting') return wave.remark;
  const words = `${part} %, ${size(wave.sent)} of ${size(wave.bytes)}`;
  return [make('progress', { max: 100, value: part, 'aria-label': `${wave.id}: ${words}` }), make('div', { class: 'small soft' }, words),
    wave.remark ? make('div', { class: 'small' }, wave.remark) : null];
}

function waveCard(wave) {
  const ended = wave.members.filter(m => ['done', 'checked'].includes(m.state)).length;
  return make('section', { class: 'card', 'data-wave': wave.id },
    make('h3', {}, `${wave.title || wave.request.image} `, stateMark(wave.state)),
    make('p', { class: 'soft small' }, [`wave ${wave.id}`, wave.request.site, wave.group && `to ${wave.group}`,
      wave.rate > 0 && `${(wave.rate / 1e6).toFixed(0)} Mbit/s`, wave.members.length > 0 && `${ended} of ${wave.members.length} machines are done`]
      .filter(Boolean).join(' · ')),
    make('div', {}, ...[waveProgress(wave)].flat()),
    may('technician') && ['waiting', 'sending'].includes(wave.state) ? make('div', { class: 'tools' }, make('button', { type: 'button',
      onclick: () => confirmed(`Stop the wave ${wave.id}? Its machines go on by themselves.`,
        () => ask(`/api/waves/${encodeURIComponent(wave.id)}/stop`, 'POST')) }, 'Stop')) : null,
    wave.members.length === 0 ? null : make('table', {}, make('thead', {}, make('tr', {}, ['Machine', 'State', 'How far'].map(h =>
      make('th', { scope: 'col' }, h)))), make('tbody', {}, wave.members.map(m => make('tr', {},
      make('td', {}, make('a', { href: `#/machines/${m.machine}` }, m.name || m.machine)), make('td', {}, stateMark(m.state)),
      make('td', {}, ...progressOf({ id: m.machine, assignment: { name: m.name }, progress: m.progress }), m.remark,
        m.heard > 0 ? make('div', { class: 'small soft' }, `heard ${size(m.heard)}, asked for ${size(m.asked)}`) : null))))));
}

async function wavesPage() {
  const waves = await ask('/api/waves');
  const detailed = await Promise.all(waves.slice(0, 10).map(w => ask(`/api/waves/${encodeURIComponent(w.id)}`)));
  // Who is at a button or a link of a wave stays there.
  const focused = document.activeElement?.closest?.('[data-wave]')?.dataset.wave;
  const kind = document.activeElement?.tagName.toLowerCase();
  main.replaceChildren(make('h2', {}, 'Waves'), may('technician') ? make('div', { class: 'tools' }, make('button', { type: 'button',
    class: 'main', onclick: beginWave }, 'Begin a wave')) : '', make('div', { id: 'waves' }, detailed.map(waveCard)),
  detailed.length > 0 ? '' : make('p', { class: 'empty' }, 'No image was sent to many machines at once yet.'));
  if (focused) main.querySelector(`[data-wave="${focused}"] ${kind}`)?.focus();
  if (detailed.some(w => ['waiting', 'sending', 'sent'].includes(w.state))) watchWaves();
}

// What a wave sends is no change of a machine, so it is asked for again.
function watchWaves() {
  clearTimeout(watchWaves.timer);
  watchWaves.timer = setTimeout(() => {
    if (!caller || location.hash !== '#/waves') return;
    if (dialog.open) watchWaves();
    else show();
  }, 2000);
}

function beginWave() {
  const problem = make('p', { class: 'problem', role: 'alert' });
  const choices = [...new Set(images.filter(i => i.isOffered).flatMap(i => [`${i.archive}#${i.name}`,
    ...i.channels.map(c => `${i.archive}#${i.name}@${c}`)]))];
  const image = make('select', { required: true }, make('option', { value: '' }, 'choose'),
    choices.map(c => make('option', { value: c }, c.split('#')[1])));
  const site = make('select', {}, make('option', { value: '' }, 'all'), [...new Set(machines.map(m => m.assignment.site).filter(Boolean))]
    .sort().map(s => make('option', { value: s }, s)));
  const joined = make('input', { type: 'number', min: 1, placeholder: 'now' });
  dialog.replaceChildren(make('form', {
    onsubmit: async event => {
      event.preventDefault();
      try {
        await ask('/api/waves', 'POST', { image: image.value, site: site.value, joined: joined.value ? Number(joined.value) : null });
        dialog.close();
        await show();
      } catch (failure) { problem.textContent = failure.message; }
    },
  }, make('h2', { id: 'dialog-title' }, 'Begin a wave'), make('label', {}, 'Image', image), make('label', {}, 'Site', site),
    make('label', {}, 'When so many machines wait for it', joined), problem, make('div', { class: 'row' },
      make('button', { type: 'button', onclick: () => dialog.close() }, 'Cancel'), make('button', { class: 'main' }, 'Begin'))));
  dialog.showModal();
  image.focus();
}

// Images.
function imagesPage() {
  main.replaceChildren(make('h2', {}, 'Images'), images.length === 0 ? make('p', { class: 'empty' }, 'The station has no image yet.')
    : make('table', {}, make('thead', {}, make('tr', {}, ['Archive', 'No.', 'Name', 'Version', 'Channels', 'Edition'].map(h =>
      make('th', { scope: 'col' }, h)), make('th', { scope: 'col', class: 'number' }, 'Size'), make('th', { scope: 'col' }, 'Made'))),
      make('tbody', {}, images.map(i => make('tr', {}, make('td', {}, i.archive), make('td', {}, String(i.number)), make('td', {}, i.name),
        make('td', {}, i.version), make('td', {}, i.channels.join(', '), i.isOffered ? '' : make('span', { class: 'failed' }, ' not offered')),
        make('td', {}, i.edition), make('td', { class: 'number' }, size(i.bytes)), make('td', {}, time(i.created)))))));
}

async function auditPage() {
  const entries = await ask('/api/audit');
  main.replaceChildren(make('h2', {}, 'Audit'), make('table', {}, make('thead', {}, make('tr', {},
    ['When', 'Who', 'From', 'What', 'To', 'Remark'].map(h => make('th', { scope: 'col' }, h)))),
    make('tbody', {}, entries.map(e => make('tr', {}, make('td', {}, time(e.time)), make('td', {}, e.who || '–'), make('td', {}, e.address),
      make('td', {}, e.action), make('td', {}, e.subject), make('td', {}, e.text))))));
}

async function show() {
  document.getElementById('parts').hidden = !caller;
  const who = document.getElementById('who');
  who.replaceChildren(...(caller ? [`${caller.name} (${caller.role}) `, make('button', { type: 'button', onclick: signOut }, 'Sign out')] : []));
  if (!caller) { stopFeed(); return signIn(); }
  const [, part = 'machines', id] = location.hash.split('/');
  for (const link of document.querySelectorAll('#parts a')) {
    link.toggleAttribute('aria-current', link.hash === `#/${part}`);
    if (link.dataset.role) link.hidden = !may(link.dataset.role);
  }
  try {
    if (part === 'images') { images = await ask('/api/images'); imagesPage(); }
    else if (part === 'waves') await wavesPage();
    else if (part === 'audit') await auditPage();
    else if (id) await machinePage(decodeURIComponent(id));
    else machinesPage();
  } catch (failure) { if (caller) main.replaceChildren(make('p', { class: 'problem' }, failure.message)); }
}

async function signOut() {
  await ask('/api/session', 'DELETE').catch(() => {});
  caller = null;
  show();
}

async function refresh() {
  machines = await ask('/api/machines');
  const [, part = 'machines', id] = location.hash.split('/');
  if (part === 'machines' && !id) rows();
  else if (['machines', 'waves'].includes(part) && !dialog.open) await show();
}

function stopFeed() { feed?.close(); feed = null; }

// Changes come one after the other; what comes while the last is being shown is shown together.
function listen() {
  stopFeed();
  const live = document.getElementById('live');
  let busy = false, again = false;
  const update = async () => {
    if (busy) { again = true; return; }
    busy = true;
    do {
      again = false;
      await refresh().catch(() => {});
      await new Promise(done => setTimeout(done, 400));
    } while (again);
    busy = false;
  };
  feed = new EventSource('/api/feed');
  feed.onopen = () => { live.textContent = 'live'; update(); };
  feed.onerror = () => { live.textContent = 'not connected; trying again'; };
  feed.addEventListener('machine', update);
}

async function begin() {
  [machines, images] = await Promise.all([ask('/api/machines'), ask('/api/images').catch(() => [])]);
  await show();
  listen();
}

addEventListener('hashchange', () => { show(); main.focus(); });
try {
  caller = await ask('/api/caller');
  await begin();
} catch { show(); }
