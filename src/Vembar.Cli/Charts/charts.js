"use strict";
// Draws a page's charts from the data beside them; docs/reports.md says what kinds there are.
(() => {
  const units = ["bytes", "KiB", "MiB", "GiB", "TiB", "PiB"];
  const size = bytes => {
    let value = bytes, unit = 0;
    while (value >= 1024 && unit < units.length - 1) { value /= 1024; unit++; }
    return unit === 0 ? `${bytes} bytes` : `${value.toFixed(1)} ${units[unit]}`;
  };
  const number = value => String(value).replace(/\B(?=(\d{3})+$)/g, ",");
  const short = text => text.length <= 44 ? text : `${text.slice(0, 22)}…${text.slice(-21)}`;
  // A round step of the unit in which values of this size are shown.
  const step = (most, bytes) => {
    let scale = 1;
    while (bytes && most / scale >= 1024) scale *= 1024;
    const rough = Math.max(1, most) / scale / 6, power = 10 ** Math.floor(Math.log10(rough));
    const round = [1, 2, 5, 10].map(n => n * power).find(n => n >= rough) * scale;
    return bytes && scale > 1 ? round : Math.max(1, Math.round(round));
  };
  const look = () => {
    const style = getComputedStyle(document.documentElement), of = name => style.getPropertyValue(name).trim();
    return { ink: of("--ink"), soft: of("--soft"), line: of("--line"), paper: of("--paper"),
      colours: [1, 2, 3, 4, 5, 6].map(n => of(`--c${n}`)) };
  };
  const text = (colours, more) => ({ color: colours.ink, fontFamily: "system-ui, 'DejaVu Sans', sans-serif", fontSize: 13, ...more });

  const kinds = {
    bars: (data, colours) => {
      const show = data.unit === "bytes" ? size : number;
      const sums = data.labels.map((_, at) => data.series.reduce((sum, s) => sum + s.values[at], 0));
      const by = step(Math.max(...sums, 0), data.unit === "bytes");
      return {
        color: colours.colours,
        legend: data.series.length > 1 ? { top: 0, left: 0, textStyle: text(colours) } : undefined,
        grid: { left: 8, right: 90, top: data.series.length > 1 ? 34 : 10, bottom: 8, containLabel: true },
        tooltip: { trigger: "axis", axisPointer: { type: "shadow" }, valueFormatter: show },
        yAxis: { type: "category", inverse: true, data: data.labels, axisTick: { show: false }, axisLine: { show: false },
          axisLabel: text(colours, { formatter: short }) },
        xAxis: { type: "value", interval: by, max: Math.ceil(Math.max(...sums, 1) / by) * by, splitLine: { lineStyle: { color: colours.line } },
          axisLabel: text(colours, { formatter: value => value === 0 ? "0" : show(value), hideOverlap: true }) },
        series: data.series.map((series, at) => ({
          name: series.name, color: colours.colours[(series.colour || at + 1) - 1], type: "bar", stack: "all", barWidth: "60%", data: series.values,
          label: { show: at === data.series.length - 1, position: "right", ...text(colours),
            formatter: point => show(sums[point.dataIndex]) },
        })),
      };
    },
    matrix: (data, colours) => ({
      visualMap: { show: false, min: data.least, max: 100, dimension: 2, inRange: { color: [colours.paper, colours.colours[0]] } },
      grid: { left: 8, right: 24, top: 8, bottom: 8, containLabel: true },
      tooltip: { formatter: point => point.value[3] },
      xAxis: { type: "category", position: "top", data: data.marks, axisTick: { show: false }, axisLine: { show: false },
        axisLabel: text(colours, { interval: 0 }) },
      yAxis: { type: "category", inverse: true, data: data.labels, axisTick: { show: false }, axisLine: { show: false },
        axisLabel: text(colours, { formatter: short }) },
      series: [{
        type: "heatmap", itemStyle: { borderColor: colours.paper, borderWidth: 2 },
        data: data.cells.map(value => ({ value,
          label: text(colours, { color: value[2] > (data.least + 100) / 2 ? colours.paper : colours.ink }) })),
        label: { show: data.marks.length <= 24, formatter: point => `${Math.round(point.value[2])} %` },
      }],
    }),
    areas: (data, colours) => ({
      color: colours.colours,
      tooltip: { formatter: point => [...point.treePathInfo.slice(1).map(p => p.name)].join("/") + ": " + size(point.value) },
      series: [{
        type: "treemap", name: data.name, data: data.nodes, leafDepth: 2, roam: false, top: 4, left: 0, right: 0, bottom: 34, nodeClick: "zoomToNode",
        breadcrumb: { bottom: 2, itemStyle: { color: colours.line, textStyle: text(colours) }, emphasis: { itemStyle: { color: colours.line } } },
        label: { formatter: point => `${point.name}\n${size(point.value)}`, fontSize: 13, lineHeight: 17, color: colours.paper, overflow: "truncate" },
        upperLabel: { show: true, height: 24, color: colours.ink, formatter: point => `${point.name}, ${size(point.value)}`, fontSize: 13 },
        itemStyle: { borderColor: colours.paper, gapWidth: 2 },
        levels: [
          { itemStyle: { borderWidth: 0, gapWidth: 4 }, upperLabel: { show: false } },
          { itemStyle: { borderColor: colours.line, borderWidth: 3, gapWidth: 2 } },
          { colorSaturation: [0.3, 0.5], itemStyle: { borderWidth: 1, gapWidth: 1 } },
        ],
      }],
    }),
    lineage: (data, colours, width) => ({
      tooltip: { formatter: point => [point.data.name, point.data.detail, point.data.marks].filter(t => t).join(", ") },
      series: data.nodes.map((node, at, all) => {
        const ends = n => n.children.length === 0 ? 1 : n.children.reduce((sum, c) => sum + ends(c), 0);
        const deep = n => 1 + Math.max(0, ...n.children.map(deep));
        const before = all.slice(0, at).reduce((sum, n) => sum + ends(n), 0), row = 64;
        // Each step is as long as in the others; names stand above the line to what was made next.
        const step = (width - 20 - 270) / Math.max(1, Math.max(...all.map(deep)) - 1);
        const name = point => (point.data.marks ? `{mark|${point.data.marks}}\n` : "") + point.data.name;
        return {
          type: "tree", data: [node], left: 20, width: step * (deep(node) - 1), top: before * row + 12,
          height: ends(node) * row,
          expandAndCollapse: false, initialTreeDepth: -1, symbol: "circle", symbolSize: 9, edgeShape: "curve",
          itemStyle: { color: colours.colours[0], borderColor: colours.colours[0] }, lineStyle: { color: colours.soft },
          label: { position: "top", align: "left", distance: 4, overflow: "truncate", width: step - 14,
            ...text(colours, { fontSize: 12, lineHeight: 18 }), formatter: name,
            rich: { mark: { color: colours.paper, backgroundColor: colours.colours[1], borderRadius: 3, padding: [1, 5], fontSize: 12, lineHeight: 18 } } },
          leaves: { label: { position: "right", align: "left", distance: 8, width: 250 } },
        };
      }),
    }),
  };

  const charts = [];
  const draw = () => {
    const colours = look();
    const tooltip = { backgroundColor: colours.paper, borderColor: colours.line, textStyle: text(colours), renderMode: "richText",
      confine: true };
    for (const { chart, data } of charts) {
      const options = kinds[data.kind](data, colours, chart.getWidth());
      chart.setOption({ animation: false, aria: { enabled: true }, textStyle: text(colours), ...options,
        tooltip: { ...tooltip, ...options.tooltip } }, true);
    }
  };
  document.documentElement.classList.add("scripts");
  for (const figure of document.querySelectorAll("figure.chart")) {
    const data = JSON.parse(figure.querySelector("script").textContent);
    charts.push({ data, chart: echarts.init(figure.querySelector(".live"), null, { renderer: "svg" }) });
  }
  draw();
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", draw);
  addEventListener("resize", () => { charts.forEach(c => c.chart.resize()); draw(); });
})();
