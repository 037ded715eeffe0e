'use strict';
(() => {
  const all = (selector, of = document) => [...of.querySelectorAll(selector)];
  const make = (name, text, attributes = {}) => {
    const element = document.createElement(name);
    if (text) element.textContent = text;
    for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
    return element;
  };
  const grouped = count => String(count).replace(/\B(?=(\d{3})+$)/g, ',');
  const PAGE = 100;

  // The rows that are wanted, a page of them at a time.
  class Pages {
    constructor(tools, word, draw) {
      this.from = 0;
      this.word = word;
      this.draw = draw;
      this.count = tools.querySelector('.count');
      this.earlier = tools.querySelector('.earlier');
      this.later = tools.querySelector('.later');
      this.earlier.addEventListener('click', () => this.show(this.from - PAGE));
      this.later.addEventListener('click', () => this.show(this.from + PAGE));
    }
    set(rows, of) {
      this.rows = rows;
      this.of = of;
      this.show(0);
    }
    show(from) {
      this.from = Math.max(0, from);
      const page = this.rows.slice(this.from, this.from + PAGE);
      this.draw(page);
      const end = this.from + page.length;
      this.earlier.disabled = this.from === 0;
      this.later.disabled = end >= this.rows.length;
      const part = page.length < this.rows.length ? `${grouped(this.from + 1)} to ${grouped(end)} of ` : '';
      const out = this.rows.length < this.of ? `, of ${grouped(this.of)} in all` : '';
      const [one, many] = this.word.split(' ');
      const word = this.rows.length === 1 ? one : many;
      this.count.textContent = `${part}${grouped(this.rows.length)} ${word}${out}`;
    }
  }

  // Which way a heading sorts now: by the other, if it sorted before.
  const turn = (headings, heading) => {
    const up = heading.getAttribute('aria-sort') !== 'ascending';
    for (const other of headings) other.setAttribute('aria-sort', 'none');
    heading.setAttribute('aria-sort', up ? 'ascending' : 'descending');
    return up ? 1 : -1;
  };
  const words = new Intl.Collator('en', {numeric: true});

  for (const tools of all('.tools[data-for]')) {
    const table = document.getElementById(tools.dataset.for);
    const body = table.tBodies[0];
    const headings = all('thead th', table);
    const rows = [...body.rows].map(row => ({row, text: row.textContent.toLowerCase(), is: (row.dataset.is || '').split(' ')}));
    const draw = page => body.replaceChildren(...page.map(one => one.row));
    const pages = new Pages(tools, table.dataset.word, draw);
    const filter = tools.querySelector('input');
    const choice = tools.querySelector('select');
    const narrow = () => {
      const wanted = filter.value.trim().toLowerCase().split(/\s+/);
      const kind = choice ? choice.value : '';
      pages.set(rows.filter(one => (!kind || one.is.includes(kind)) && wanted.every(word => one.text.includes(word))), rows.length);
    };
    filter.addEventListener('input', narrow);
    if (choice) choice.addEventListener('change', narrow);
    headings.forEach((heading, at) => heading.firstElementChild.addEventListener('click', () => {
      const way = turn(headings, heading);
      const number = 'number' in heading.dataset;
      for (const one of rows) {
        const text = one.row.cells[at].textContent;
        one.key = number ? Number(text.replace(/,/g, '')) || 0 : text;
      }
      // What is empty comes last, whichever way.
      rows.sort((a, b) => number ? way * (a.key - b.key) : (a.key === '') - (b.key === '') || way * words.compare(a.key, b.key));
      narrow();
    }));
    narrow();
    table.classList.add('ready');
    addEventListener('beforeprint', () => draw(pages.rows));
    addEventListener('afterprint', () => pages.show(pages.from));
  }

  const matrix = document.getElementById('matrix-data');
  if (matrix) {
    const {groups, people} = JSON.parse(matrix.textContent);
    // So many columns are drawn at most: the groups that most are in come first.
    const MOST = 200;
    const tools = document.querySelector('.tools[data-matrix]');
    const box = document.querySelector('.scroll.matrix');
    const table = make('table');
    const head = make('tr');
    const body = make('tbody');
    table.append(make('thead'), body);
    table.tHead.append(head);
    box.replaceChildren(table);
    const size = groups.map(() => 0);
    const rows = people.map(([name, primary, listed]) => {
      const cells = new Map(listed.map(group => [group, 'L']));
      if (primary >= 0) cells.set(primary, 'P');
      for (const group of cells.keys()) size[group] += 1;
      return {name, cells, text: name.toLowerCase()};
    });
    let columns = [];
    const draw = page => body.replaceChildren(...page.map(one => {
      const row = make('tr');
      row.append(make('th', one.name, {scope: 'row'}));
      for (const group of columns) {
        const cell = one.cells.get(group);
        row.append(make('td', cell, cell ? {class: cell.toLowerCase()} : {}));
      }
      row.append(make('td', String(one.cells.size), {class: 'n'}));
      return row;
    }));
    const pages = new Pages(tools, 'person people', draw);
    const of_people = tools.querySelector('.people');
    const of_groups = tools.querySelector('.groups');
    const narrow = () => pages.set(rows.filter(one => one.text.includes(of_people.value.trim().toLowerCase())), rows.length);
    const heading = (text, key) => {
      const cell = make('th', '', {scope: 'col', 'aria-sort': 'none'});
      const button = make('button', text, {type: 'button'});
      button.addEventListener('click', () => {
        const way = turn([...head.cells], cell);
        rows.sort((a, b) => way * key(a, b) || words.compare(a.name, b.name));
        narrow();
      });
      cell.append(button);
      return cell;
    };
    const rank = one => ({P: 0, L: 1})[one] ?? 2;
    const lay = () => {
      const wanted = of_groups.value.trim().toLowerCase();
      columns = groups.map((_, at) => at).filter(at => groups[at].toLowerCase().includes(wanted));
      columns.sort((a, b) => size[b] - size[a] || a - b);
      columns = columns.slice(0, MOST).sort((a, b) => a - b);
      const left = columns.length < groups.length ? ` (${columns.length} of ${groups.length} groups)` : '';
      head.replaceChildren(
        heading(`Name${left}`, (a, b) => words.compare(a.name, b.name)),
        ...columns.map(group => heading(groups[group], (a, b) => rank(a.cells.get(group)) - rank(b.cells.get(group)))),
        heading('In how many', (a, b) => b.cells.size - a.cells.size));
      narrow();
    };
    of_people.addEventListener('input', narrow);
    of_groups.addEventListener('input', lay);
    lay();
    addEventListener('beforeprint', () => draw(pages.rows));
    addEventListener('afterprint', () => pages.show(pages.from));
  }

  // The scale of a map: where its numbers begin, and how wide they are, as it was drawn.
  const LEFT = 150, WIDE = 830, LEAST = 1.5;
  for (const map of all('.map')) {
    const whole = [Number(map.dataset.first), Number(map.dataset.last) + 1];
    let [from, to] = whole;
    const ticks = map.querySelector('.ticks');
    const bottom = Number(map.dataset.bottom);
    const place = number => LEFT + (number - from) / (to - from) * WIDE;
    const inside = x => Math.min(LEFT + WIDE, Math.max(LEFT, x));
    const svg = (name, attributes, text) => {
      const element = document.createElementNS('http://www.w3.org/2000/svg', name);
      for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
      if (text) element.textContent = text;
      return element;
    };
    const draw = () => {
      for (const mark of all('rect[data-a]', map)) {
        const [a, b] = [Number(mark.dataset.a), Number(mark.dataset.b) + 1];
        const seen = b > from && a < to;
        mark.setAttribute('visibility', seen ? 'visible' : 'hidden');
        if (!seen) continue;
        const x = inside(place(a));
        mark.setAttribute('x', x.toFixed(1));
        mark.setAttribute('width', Math.max(LEAST, inside(place(b)) - x).toFixed(1));
      }
      for (const tip of all('path[data-a]', map)) {
        const number = Number(tip.dataset.a);
        tip.setAttribute('visibility', number >= from && number < to ? 'visible' : 'hidden');
        tip.setAttribute('d', `M${place(number + 0.5).toFixed(1)} ${bottom}l-6 11h12z`);
      }
      // Round numbers, eight of them at most.
      let step = 1;
      while ((to - from) / step > 8) step *= String(step)[0] === '2' ? 2.5 : 2;
      const marks = [];
      for (let number = Math.ceil(from / step) * step; number < to; number += step) {
        const x = place(number).toFixed(1);
        marks.push(svg('line', {x1: x, x2: x, y1: 20, y2: bottom}), svg('text', {x, y: 14, 'text-anchor': 'middle'}, String(number)));
      }
      ticks.replaceChildren(...marks);
    };
    const look = (middle, width) => {
      width = Math.round(Math.min(whole[1] - whole[0], Math.max(8, width)));
      from = Math.round(Math.min(whole[1] - width, Math.max(whole[0], middle - width / 2)));
      to = from + width;
      draw();
    };
    const on = (name, act) => map.querySelector(`.zoom .${name}`).addEventListener('click', act);
    on('in', () => look((from + to) / 2, (to - from) / 4));
    on('out', () => look((from + to) / 2, (to - from) * 4));
    on('left', () => look((from + to) / 2 - (to - from) / 2, to - from));
    on('right', () => look((from + to) / 2 + (to - from) / 2, to - from));
    // Where it is pointed at, it is zoomed in on.
    const drawing = map.querySelector('svg');
    drawing.addEventListener('click', event => {
      const box = drawing.getBoundingClientRect();
      const x = (event.clientX - box.left) / box.width * 1000;
      if (x >= LEFT) look(from + (x - LEFT) / WIDE * (to - from), (to - from) / 4);
    });
    on('all', () => look((whole[0] + whole[1]) / 2, whole[1] - whole[0]));
  }

  // A link to a change opens it.
  const open = () => {
    const target = location.hash && document.getElementById(location.hash.slice(1));
    if (target && target.tagName === 'DETAILS') target.open = true;
  };
  addEventListener('hashchange', open);
  open();
})();
