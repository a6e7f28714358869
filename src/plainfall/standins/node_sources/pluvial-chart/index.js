"use strict";

exports.bars = (totals, unit) => {
  const most = Math.max(1, ...Object.values(totals));
  const row = ([name, amount]) =>
    `<tr><th>${name}</th><td><span class="bar" style="width:${Math.round((amount / most) * 300)}px"></span></td>` +
    `<td>${amount.toFixed(1)} ${unit}</td></tr>`;
  return `<table>${Object.entries(totals).map(row).join("")}</table>`;
};
