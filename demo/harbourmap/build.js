// Draws the piers into the page: what is in `src/` becomes `dist/`.
const { createHash } = require('node:crypto');
const { mkdirSync, readFileSync, writeFileSync } = require('node:fs');
const { signal } = require('@kestrel/flags');

const piers = JSON.parse(readFileSync('src/piers.json', 'utf8'));
const style = readFileSync('src/map.css', 'utf8');
// A name with a hash: browsers may keep the file for ever.
const styleName = `map-${createHash('sha256').update(style).digest('hex').slice(0, 8)}.css`;

const marks = piers.map(({ name, x, y, state }) =>
  `  <g transform="translate(${x} ${y})" class="${state}"><text>${signal(state)} ${name}</text></g>`);
const page = readFileSync('src/index.html', 'utf8')
  .replace('STYLE', styleName)
  .replace('PIERS', marks.join('\n'));

mkdirSync('dist', { recursive: true });
writeFileSync(`dist/${styleName}`, style);
writeFileSync('dist/index.html', page);
console.log(`${piers.length} piers drawn`);
