/** How the report looks: on a screen, at night, and on paper. */
export const reportStyle = `
:root { color-scheme: light dark; --ink: #1d2a33; --soft: #5d6b75; --line: #d8dfe4; --paper: #fff; --tint: #f2f5f7;
  --good: #17693a; --bad: #a8201a; --open: #8a5a00; --mark: #fff0b8; --bar: #5b8fb0; }
@media (prefers-color-scheme: dark) { :root { --ink: #dfe7ec; --soft: #93a3ae; --line: #33414b; --paper: #141b20;
  --tint: #1c252c; --good: #6fcf97; --bad: #ff8f87; --open: #f0bf5f; --mark: #57480f; --bar: #6fa6c9; } }
* { box-sizing: border-box; }
body { margin: 0 auto; max-width: 72rem; padding: 1.5rem; background: var(--paper); color: var(--ink);
  font: 15px/1.5 system-ui, sans-serif; }
h1 { font-size: 1.7rem; margin: 0; } h2 { font-size: 1.2rem; margin: 2rem 0 .6rem; border-bottom: 1px solid var(--line);
  padding-bottom: .3rem; } h3 { font-size: 1rem; margin: 1.2rem 0 .4rem; } h2 .dim { font-size: .85rem; font-weight: normal; }
.way { font-size: 1.05rem; margin: .2rem 0 .8rem; overflow-wrap: anywhere; }
.verdict { font-size: 1.1rem; font-weight: 600; padding: .6rem .9rem; border-left: 4px solid currentColor;
  background: var(--tint); margin: 0; }
.good { color: var(--good); } .bad { color: var(--bad); } .open { color: var(--open); } .dim, footer { color: var(--soft); }
.figures { display: flex; flex-wrap: wrap; gap: .8rem; margin: 1.2rem 0 0; }
.figures div { flex: 1 1 9rem; background: var(--tint); padding: .7rem .9rem; border-radius: 4px; }
.figures b { display: block; font-size: 1.5rem; line-height: 1.2; }
.wide { overflow-x: auto; margin: .5rem 0 1rem; }
table { border-collapse: collapse; width: 100%; font-size: .92rem; }
th, td { text-align: left; vertical-align: top; padding: .25rem .8rem .25rem 0; border-bottom: 1px solid var(--line);
  overflow-wrap: break-word; }
td:last-child { overflow-wrap: anywhere; }
th { color: var(--soft); font-weight: 600; } .n { text-align: right; white-space: nowrap; font-variant-numeric: tabular-nums; }
code, pre, .sample { font: .88em/1.45 ui-monospace, monospace; overflow-wrap: anywhere; }
pre { background: var(--tint); padding: .7rem .9rem; overflow-x: auto; } mark { background: var(--mark); color: inherit; }
.findings { list-style: none; padding: 0; } .findings li { border-left: 4px solid var(--line); padding: .2rem .8rem; margin: .6rem 0; }
.findings .stop { border-color: var(--bad); } .findings .warn { border-color: var(--open); }
.findings dl { display: grid; grid-template-columns: 4rem 1fr; margin: .1rem 0; } .findings dt { color: var(--soft); } .findings dd { margin: 0; overflow-wrap: anywhere; }
nav ul { list-style: none; padding: 0; display: flex; flex-wrap: wrap; gap: .2rem 1.2rem; margin: 1rem 0 0; } a { color: inherit; }
details { margin: .6rem 0; } summary { cursor: pointer; }
.bars div { display: flex; align-items: center; gap: .6rem; } .bars span { flex: 0 0 15rem; }
.bars i { background: var(--bar); height: .8em; display: block; }
footer { margin-top: 2.5rem; border-top: 1px solid var(--line); padding-top: .6rem; }
@media print { body { max-width: none; padding: 0; } section { break-inside: avoid-page; } }
`;
