"use strict";
(() => {
  const fields = ["method", "status", "verdict", "finding", "path"].map((name) => [name, document.getElementById("f-" + name)]);
  const rows = [...document.querySelectorAll(".exchange")];
  const count = document.getElementById("f-count");
  const filter = () => {
    const wanted = Object.fromEntries(fields.map(([name, field]) => [name, field.value]));
    let shown = 0;
    for (const row of rows) {
      const data = row.dataset;
      const fits = (!wanted.method || data.method === wanted.method) && (!wanted.status || data.status === wanted.status)
        && (!wanted.verdict || data.verdict === wanted.verdict) && (!wanted.finding || data.findings.split(" ").includes(wanted.finding))
        && data.path.includes(wanted.path);
      row.hidden = !fits;
      shown += fits;
    }
    count.textContent = shown + " of " + rows.length;
  };
  for (const [, field] of fields) field.addEventListener("input", filter);
  const unfold = () => {
    const row = location.hash.startsWith("#x") && document.getElementById(location.hash.slice(1));
    if (row) { row.hidden = false; row.open = true; row.scrollIntoView(); }
  };
  addEventListener("hashchange", unfold);
  filter();
  unfold();
})();
