(() => {
  'use strict';
  const root = document.documentElement;
  const get = (id) => document.getElementById(id);
  const shape = JSON.parse(get('shape').textContent);
  const map = get('map'), drawing = get('drawing'), small = get('small'), panel = get('panel');
  root.classList.add('js');

  // -- folding: rows of a folded scope close up, what is below moves up; nothing moves sideways.
  const SHUT = 58, TAB = 18;
  const items = new Map(), levels = new Map();
  for (const [scope, row, top, height] of shape.bands) {
    if (!levels.has(scope)) levels.set(scope, []);
    levels.get(scope)[row] = { top, height, items: [] };
  }
  for (const [key, scope, row, y, height, tabs, frame] of shape.items) {
    const item = { key, scope, y, height, tabs, frame, node: get(key), shut: false };
    items.set(key, item);
    levels.get(scope)[row].items.push(item);
  }
  const rows = (scope) => levels.get(scope) || [];
  const measure = (scope) => {
    let saved = 0;
    for (const row of rows(scope)) {
      row.now = row.items.length ? 0 : row.height;
      for (const item of row.items) {
        item.now = !item.frame ? item.height : item.shut ? SHUT : item.height - measure(item.key);
        row.now = Math.max(row.now, item.now + (item.tabs ? TAB : 0));
      }
      saved += row.height - row.now;
    }
    return saved;
  };
  const place = (scope, shift, hidden) => {
    const all = rows(scope);
    let y = all.length ? all[0].top + shift : 0;
    all.forEach((row, r) => {
      row.y = y;
      for (const item of row.items) {
        const move = y - item.y;
        item.at = y;
        item.node.classList.toggle('gone', hidden);
        item.node.setAttribute('transform', `translate(0 ${move})`);
        if (item.frame) {
          const shrunk = item.height - item.now;
          item.node.classList.toggle('shut', item.shut);
          item.node.querySelector('.edge rect').setAttribute('height', item.now);
          item.node.querySelector('.halo').setAttribute('height', item.now + 8);
          item.node.querySelector('.tabs').setAttribute('transform', `translate(0 ${-shrunk})`);
          place(item.key, move, hidden || item.shut);
        }
      }
      const next = all[r + 1];
      y += row.now + (next ? next.top - row.top - row.height : 0);
    });
    levels.get(scope) && (all.hidden = hidden);
  };
  const moved = (scope, y, ends) => {
    for (const item of ends) {
      if (item && y >= item.y - 1 && y <= item.y + item.height + (item.tabs ? TAB : 0) + 1) {
        return item.frame && y > item.y + item.height / 2 ? item.at + item.now + y - item.y - item.height : item.at + y - item.y;
      }
    }
    let row = rows(scope)[0];
    for (const other of rows(scope)) if (other.top <= y) row = other;
    const below = y - row.top - row.height;
    return below >= 0 ? row.y + row.now + below : row.y + Math.min(y - row.top, row.now);
  };
  const arrange = () => {
    const saved = measure('');
    place('', 0, false);
    for (const [key, scope, a, b, points] of shape.routes) {
      const node = get(key), hidden = rows(scope).hidden;
      node.classList.toggle('gone', hidden);
      if (hidden) continue;
      const ends = [items.get(a), items.get(b)];
      const found = points.map(([x, y]) => [x, moved(scope, y, ends)]);
      const [line, head] = node.querySelectorAll('path');
      line.setAttribute('d', 'M' + found.map((p) => p.join(' ')).join('L'));
      const n = points.length - 1;
      head.setAttribute('transform', `translate(0 ${found[n][1] - points[n][1]})`);
    }
    rows('').forEach((row, r) => get(`row${r}`) && get(`row${r}`).setAttribute('transform', `translate(0 ${row.y - row.top})`));
    get('foot').setAttribute('transform', `translate(0 ${-saved})`);
    size.height = shape.height - saved;
    drawing.setAttribute('viewBox', `0 0 ${shape.width} ${size.height}`);
    get('rail') && get('rail').setAttribute('y2', size.height - 44);
    zoom(size.scale);
    overview();
  };
  const size = { height: shape.height, scale: 1 };
  const fold = (item, shut) => {
    item.shut = shut;
    const toggle = item.node.querySelector('.toggle');
    toggle.setAttribute('aria-expanded', String(!shut));
  };
  const frames = [...items.values()].filter((i) => i.frame);
  const foldAll = (shut) => { frames.forEach((f) => fold(f, shut)); arrange(); };

  // -- zooming and moving: the browser's own scrolling, so that it is as smooth as any page.
  const zoom = (scale, x, y) => {
    const before = size.scale;
    size.scale = Math.min(4, Math.max(0.05, scale));
    const box = map.getBoundingClientRect();
    const px = x === undefined ? box.width / 2 : x - box.left, py = y === undefined ? box.height / 2 : y - box.top;
    const left = (map.scrollLeft + px) / before, top = (map.scrollTop + py) / before;
    drawing.setAttribute('width', shape.width * size.scale);
    drawing.setAttribute('height', size.height * size.scale);
    if (before !== size.scale) map.scrollTo(left * size.scale - px, top * size.scale - py);
    eye();
  };
  const fit = () => {
    const box = map.getBoundingClientRect();
    zoom(Math.min(1.5, (box.width - 20) / shape.width, (box.height - 20) / size.height));
    map.scrollTo(0, 0);
  };
  map.addEventListener('wheel', (event) => {
    if (!event.ctrlKey && !event.metaKey) return;
    event.preventDefault();
    zoom(size.scale * Math.exp(-event.deltaY / 400), event.clientX, event.clientY);
  }, { passive: false });
  let held = null;
  map.addEventListener('pointerdown', (event) => {
    if (event.button !== 0 || event.pointerType === 'touch') return;
    held = { x: event.clientX, y: event.clientY, left: map.scrollLeft, top: map.scrollTop, far: false };
  });
  window.addEventListener('pointermove', (event) => {
    if (!held) return;
    const dx = event.clientX - held.x, dy = event.clientY - held.y;
    if (!held.far && Math.hypot(dx, dy) < 5) return;
    held.far = true;
    map.classList.add('held');
    map.scrollLeft = held.left - dx;
    map.scrollTop = held.top - dy;
  });
  window.addEventListener('pointerup', () => { const far = held && held.far; held = null; map.classList.remove('held'); if (far) suppress = true; });
  let suppress = false;

  // -- the overview in the corner
  const overview = () => {
    const field = get('dots');
    field.setAttribute('viewBox', `0 0 ${shape.width} ${size.height}`);
    // A map of thousands of steps would be a hair in its corner: beyond four to one it fills it, and every step is a dot at least high.
    const slim = size.height > 4 * shape.width || shape.width > 4 * size.height;
    field.setAttribute('preserveAspectRatio', slim ? 'none' : 'xMidYMid');
    const least = slim ? size.height / 200 : 0;
    for (const item of items.values()) {
      const dot = get(`d${item.key}`);
      const hidden = item.node.classList.contains('gone');
      dot.setAttribute('visibility', hidden ? 'hidden' : 'visible');
      dot.setAttribute('y', item.at);
      dot.setAttribute('height', Math.max(item.now, least));
    }
    eye();
  };
  const eye = () => {
    const w = map.clientWidth / size.scale, h = map.clientHeight / size.scale;
    small.classList.toggle('wanted', w < shape.width * 0.95 || h < size.height * 0.95);
    const box = get('eye');
    box.setAttribute('x', map.scrollLeft / size.scale);
    box.setAttribute('y', map.scrollTop / size.scale);
    box.setAttribute('width', Math.min(w, shape.width));
    box.setAttribute('height', Math.min(h, size.height));
  };
  let waiting = false;
  map.addEventListener('scroll', () => {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => { waiting = false; eye(); });
  });
  const look = (event) => {
    if (!event.buttons) return;
    const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(get('dots').getScreenCTM().inverse());
    map.scrollTo(at.x * size.scale - map.clientWidth / 2, at.y * size.scale - map.clientHeight / 2);
  };
  small.addEventListener('pointerdown', look);
  small.addEventListener('pointermove', look);

  // -- steps: focus moves in the order of execution; Enter opens the card.
  const order = shape.order.map((k) => items.get(k)).filter(Boolean);
  let here = order[0];
  const seen = (item) => !item.node.classList.contains('gone');
  const focus = (item, jump) => {
    if (here) here.node.setAttribute('tabindex', '-1');
    here = item;
    here.node.setAttribute('tabindex', '0');
    if (jump) { reveal(item); here.node.focus({ preventScroll: true }); }
  };
  const reveal = (item) => {
    let scope = item.scope, changed = false;
    while (scope) {
      const frame = items.get(scope);
      if (frame.shut) { fold(frame, false); changed = true; }
      scope = frame.scope;
    }
    if (changed) arrange();
    const box = item.node.getBoundingClientRect(), field = map.getBoundingClientRect();
    const tall = Math.min(box.height, field.height * 0.6);
    map.scrollBy(box.left + box.width / 2 - field.left - field.width / 2, box.top + tall / 2 - field.top - field.height / 2);
  };
  const step = (by) => {
    const visible = order.filter(seen);
    const at = visible.indexOf(here);
    focus(visible[Math.min(visible.length - 1, Math.max(0, at + by))], true);
  };
  const body = (key) => get(`l${key}`);
  const open = (item, back) => {
    const entry = body(item.key);
    if (!entry) return;
    const said = get('said');
    const copy = entry.querySelector('.body').cloneNode(true);
    copy.querySelectorAll('[id]').forEach((n) => n.removeAttribute('id'));
    const title = document.createElement('h2');
    title.textContent = shape.names[item.key];
    said.replaceChildren(title, copy);
    get('shutone').hidden = !item.frame;
    get('shutone').textContent = item.shut ? 'Unfold' : 'Fold';
    panel.hidden = false;
    panel.dataset.key = item.key;
    if (back) get('close').focus();
    eye();
  };
  const close = () => {
    if (panel.hidden) return;
    panel.hidden = true;
    const item = items.get(panel.dataset.key);
    if (item && !document.body.classList.contains('as-list')) focus(item, true);
    eye();
  };
  const owner = (target) => { const node = target.closest && target.closest('.node'); return node ? items.get(node.id) : null; };
  drawing.addEventListener('click', (event) => {
    if (suppress) { suppress = false; return; }
    const toggle = event.target.closest('.toggle');
    const item = owner(event.target);
    if (!item) return;
    focus(item, false);
    if (toggle) { fold(item, !item.shut); arrange(); return; }
    open(item, false);
  });
  map.addEventListener('pointerdown', () => { suppress = false; }, true);
  drawing.addEventListener('keydown', (event) => {
    const item = owner(event.target);
    if (!item) return;
    const moves = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1, PageDown: 10, PageUp: -10, Home: -1e6, End: 1e6 };
    if (event.key in moves) step(moves[event.key]);
    else if (event.key === 'Enter' || event.key === ' ') open(item, true);
    else if (event.key === 'f' && (item.frame || item.scope)) {
      const frame = item.frame ? item : items.get(item.scope);
      fold(frame, !frame.shut);
      arrange();
      focus(frame, true);
    } else return;
    event.preventDefault();
  });
  document.addEventListener('keydown', (event) => {
    if (event.key === 'Escape') { close(); return; }
    if (event.target.tagName === 'INPUT' || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === '+' || event.key === '=') zoom(size.scale * 1.25);
    else if (event.key === '-') zoom(size.scale / 1.25);
    else if (event.key === '0') fit();
    else if (event.key === '/') { event.preventDefault(); get('q').focus(); }
  });

  // -- search
  let hits = [], at = -1;
  const mark = (item, on) => {
    item.node.classList.toggle('hit', on);
    const entry = body(item.key);
    if (entry) entry.classList.toggle('hit', on);
  };
  const search = () => {
    hits.forEach((h) => mark(h, false));
    const words = get('q').value.trim().toLowerCase();
    hits = words ? order.filter((i) => shape.text[i.key].includes(words)) : [];
    hits.forEach((h) => mark(h, true));
    at = -1;
    get('hits').textContent = !words ? '' : hits.length === 1 ? '1 found' : `${hits.length} found`;
  };
  get('q').addEventListener('input', search);
  get('find').addEventListener('submit', (event) => {
    event.preventDefault();
    if (!hits.length) return;
    at = (at + 1) % hits.length;
    get('hits').textContent = `${at + 1} of ${hits.length}`;
    if (document.body.classList.contains('as-list')) {
      let entry = body(hits[at].key);
      entry.querySelector('details').open = true;
      entry.scrollIntoView({ block: 'center' });
    } else {
      focus(hits[at], false);
      reveal(hits[at]);
    }
  });

  // -- buttons
  const on = (id, what) => get(id).addEventListener('click', what);
  on('in', () => zoom(size.scale * 1.25));
  on('out', () => zoom(size.scale / 1.25));
  on('fit', fit);
  on('fold', () => foldAll(true));
  on('unfold', () => foldAll(false));
  on('close', close);
  on('shutone', () => { const item = items.get(panel.dataset.key); fold(item, !item.shut); arrange(); get('shutone').textContent = item.shut ? 'Unfold' : 'Fold'; });
  const asList = (list) => {
    document.body.classList.toggle('as-list', list);
    get('view').setAttribute('aria-pressed', String(list));
    panel.hidden = true;
    if (!list) eye();
  };
  on('view', () => asList(!document.body.classList.contains('as-list')));
  const dark = () => root.dataset.theme ? root.dataset.theme === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches;
  const theme = (wanted) => { root.dataset.theme = wanted ? 'dark' : 'light'; get('theme').setAttribute('aria-pressed', String(wanted)); };
  get('theme').setAttribute('aria-pressed', String(dark()));
  on('theme', () => theme(!dark()));

  // -- printing on several sheets: the drawing in pieces of a page each
  const sheets = () => {
    const w = 1040, h = 680, across = Math.ceil(shape.width / w), down = Math.ceil(size.height / h);
    const made = [];
    for (let r = 0; r < down; r++) {
      for (let c = 0; c < across; c++) {
        const sheet = document.createElement('div');
        sheet.className = 'sheet';
        const piece = document.createElementNS('http://www.w3.org/2000/svg', 'svg');
        piece.setAttribute('viewBox', `${c * w} ${r * h} ${w} ${h}`);
        const use = document.createElementNS('http://www.w3.org/2000/svg', 'use');
        use.setAttribute('href', '#whole');
        piece.append(use);
        sheet.append(piece);
        document.querySelector('main').append(sheet);
        made.push(sheet);
      }
    }
    document.body.classList.add('sheets');
    return made;
  };
  on('sheets', () => {
    const made = sheets();
    window.addEventListener('afterprint', () => { made.forEach((s) => s.remove()); document.body.classList.remove('sheets'); }, { once: true });
    window.print();
  });

  if (here) focus(here, false);
  arrange();
  if (shape.width > map.clientWidth) zoom(Math.max(0.5, (map.clientWidth - 20) / shape.width));
  const first = here ? here.node.getBoundingClientRect() : null;
  map.scrollTo(first ? first.left + first.width / 2 - map.clientWidth / 2 : 0, 0);
  asList(matchMedia('(max-width: 48rem)').matches);
  window.addEventListener('resize', eye);
})();
