"use strict";
// Tables sort by a column: by its numbers where it has any, else by its texts; a total stays at the end.
for (const table of document.querySelectorAll("table")) {
  const body = table.tBodies[0];
  if (body.rows.length < 2) continue;
  Array.from(table.tHead.rows[0].cells).forEach((head, place) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const number = (row) => row.cells[place].dataset.value;
      const rows = Array.from(body.rows);
      rows.sort((a, b) => {
        if (a.className === "total" || b.className === "total") return a.className === "total" ? 1 : -1;
        const [one, other] = [number(a), number(b)];
        if (one === undefined && other === undefined) {
          const order = a.cells[place].textContent.localeCompare(b.cells[place].textContent, "en", { numeric: true });
          return down ? -order : order;
        }
        if (one === undefined || other === undefined) return one === undefined ? 1 : -1;
        return down ? other - one : one - other;
      });
      body.append(...rows);
    });
  });
}

// Figures: drawn by the package that stands before this script, if there is one. Colours have names, whose values are
// others in the dark and on paper; names of plans find a place at which they cover nothing, or are left out.
const palettes = {
  light: { ink: "#22313f", sea: "#1f7a8c", buoy: "#e4572e", sand: "#d9a520", kelp: "#5b8c5a", dusk: "#7d5ba6", foam: "#bfdbe2", card: "#ffffff" },
  dark: { ink: "#e6edf1", sea: "#5cb8ca", buoy: "#ff8a66", sand: "#e9c46a", kelp: "#8fc08e", dusk: "#b79be0", foam: "#3f5563", card: "#1c2833" },
};
const dark = window.matchMedia("(prefers-color-scheme: dark)");

function coloured(value, palette) {
  if (Array.isArray(value)) return value.map((one) => coloured(one, palette));
  if (value === null || typeof value !== "object") return value;
  const found = {};
  for (const [key, one] of Object.entries(value)) {
    if (/color$/i.test(key) && typeof one === "string") found[key] = palette[one] ?? one;
    else if (key === "color" && Array.isArray(one)) found[key] = one.map((each) => palette[each] ?? each);
    else found[key] = coloured(one, palette);
  }
  return found;
}

// For each name the first place around its marker that covers no other name and no marker; without one it is left out,
// and shown when one points at the marker.
function placeNames(plot) {
  const { xaxis, yaxis } = plot._fullLayout;
  const at = [];
  plot.data.forEach((curve, number) => {
    (curve.text ?? []).forEach((name, place) => {
      at.push({ number, place, x: xaxis.d2p(curve.x[place]), y: yaxis.d2p(curve.y[place]), wide: 7 * name.length });
    });
  });
  const boxes = at.map(({ x, y }) => [x - 8, y - 8, x + 8, y + 8]);
  const positions = at.length ? plot.data.map((curve) => (curve.text ?? []).map(() => "top center")) : [];
  const texts = plot.data.map((curve) => Array.from(curve.text ?? []));
  const meets = (one, other) => one[0] < other[2] && other[0] < one[2] && one[1] < other[3] && other[1] < one[3];
  for (const { number, place, x, y, wide } of at.sort((a, b) => a.y - b.y || a.x - b.x)) {
    const ways = {
      "top center": [x - wide / 2, y - 24, x + wide / 2, y - 9], "bottom center": [x - wide / 2, y + 9, x + wide / 2, y + 24],
      "middle right": [x + 9, y - 8, x + 9 + wide, y + 8], "middle left": [x - 9 - wide, y - 8, x - 9, y + 8],
      "top right": [x + 4, y - 24, x + 4 + wide, y - 9], "top left": [x - 4 - wide, y - 24, x - 4, y - 9],
      "bottom right": [x + 4, y + 9, x + 4 + wide, y + 24], "bottom left": [x - 4 - wide, y + 9, x - 4, y + 24],
    };
    const free = Object.keys(ways).find((way) =>
      ways[way][0] > 0 && ways[way][2] < xaxis._length + 8 && !boxes.some((box) => meets(box, ways[way])));
    if (free === undefined) texts[number][place] = "";
    else {
      positions[number][place] = free;
      boxes.push(ways[free]);
    }
  }
  return { textposition: positions, text: texts };
}

function draw(holder, palette, width) {
  const spec = coloured(JSON.parse(holder.querySelector("script").textContent), palette);
  for (const curve of spec.data) curve.x ??= spec.x;
  const plot = holder.querySelector(".plot");
  const axes = Object.keys(spec.layout).filter((key) => /^[xy]axis/.test(key));
  const layout = {
    ...spec.layout, paper_bgcolor: "rgba(0,0,0,0)", plot_bgcolor: "rgba(0,0,0,0)", height: Number(holder.dataset.height),
    font: { family: getComputedStyle(document.body).fontFamily, size: 12, color: palette.ink },
    margin: { l: 50, r: 12, b: 44, ...spec.layout.margin },
    hoverlabel: { bgcolor: palette.card, bordercolor: palette.foam, font: { color: palette.ink } },
    modebar: { bgcolor: "rgba(0,0,0,0)", color: palette.ink, activecolor: palette.sea, orientation: "h" },
    ...(width ? { width, autosize: false } : { autosize: true }),
  };
  for (const key of axes) if (plot.layout?.[key]?.range && plot.dataset.zoomed) layout[key] = { ...layout[key], range: plot.layout[key].range };
  const config = { responsive: true, displaylogo: false, showTips: false, modeBarButtons: [["zoom2d", "pan2d", "resetScale2d"]] };
  Plotly.react(plot, spec.data, layout, config);
  if (spec.labels) Plotly.restyle(plot, placeNames(plot));
}

if (typeof Plotly !== "undefined") {
  const holders = Array.from(document.querySelectorAll(".live"));
  const all = (palette, width) => holders.forEach((holder) => draw(holder, palette, width?.(holder)));
  const usual = () => all(dark.matches ? palettes.dark : palettes.light);
  usual();
  dark.addEventListener("change", usual);
  // Paper is light and as wide as it is.
  window.addEventListener("beforeprint", () => all(palettes.light, (holder) => (holder.classList.contains("half") ? 320 : 665)));
  window.addEventListener("afterprint", usual);
  let waiting;
  window.addEventListener("resize", () => {
    clearTimeout(waiting);
    waiting = setTimeout(usual, 250);
  });
  for (const holder of holders) {
    const { views } = JSON.parse(holder.querySelector("script").textContent);
    const bar = holder.querySelector(".views");
    for (const { name, ends } of views) {
      const button = document.createElement("button");
      button.type = "button";
      button.textContent = name;
      button.addEventListener("click", () => {
        const plot = holder.querySelector(".plot");
        const whole = JSON.parse(holder.querySelector("script").textContent).layout.xaxis.range;
        plot.dataset.zoomed = ends ? "yes" : "";
        Plotly.relayout(plot, { "xaxis.range": ends ?? whole });
        for (const other of bar.children) other.setAttribute("aria-pressed", String(other === button));
      });
      button.setAttribute("aria-pressed", String(ends === null));
      bar.append(button);
    }
  }
}
