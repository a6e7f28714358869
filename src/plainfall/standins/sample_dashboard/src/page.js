const { bars } = require("pluvial-chart");

const api = process.env.API_URL;
if (!api) throw new Error("API_URL is not set");

module.exports = {
  title: "Rain gauge dashboard",
  async content() {
    const answer = await fetch(`${api}/api/readings`);
    const { count, readings } = await answer.json();
    const totals = {};
    for (const { station, millimetres } of readings) totals[station] = (totals[station] || 0) + millimetres;
    return `<h1>${count} readings</h1>${bars(totals, "mm")}`;
  },
};
