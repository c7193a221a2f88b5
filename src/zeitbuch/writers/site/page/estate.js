// Shows of the list of flows only those that are looked for. Builds no markup.
"use strict";
(() => {
  const find = document.getElementById("q");
  const list = document.getElementById("all");
  if (!find || !list) return;
  const items = [...list.children];
  const texts = items.map((item) => item.textContent.toLowerCase());
  const count = document.getElementById("count");
  function show() {
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    list.classList.toggle("found", words.length > 0);
    if (!words.length) { count.textContent = ""; return; }
    let shown = 0;
    items.forEach((item, place) => {
      item.hidden = !words.every((word) => texts[place].includes(word));
      shown += item.hidden ? 0 : 1;
    });
    count.textContent = `${shown} of ${items.length} flows`;
  }
  find.addEventListener("input", show);
  show();
})();
