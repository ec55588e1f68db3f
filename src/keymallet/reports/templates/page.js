"use strict";
(() => {
  const form = document.getElementById("filter"), list = document.getElementById("list");
  if (!list) return;
  const items = [...list.children], field = name => document.getElementById(name);
  const texts = new Map(items.map(item => [item, item.textContent.toLowerCase()]));
  for (const name of ["state", "answerer"])
    for (const value of [...new Set(items.map(item => item.dataset[name]))].filter(Boolean).sort())
      field(name).append(new Option(value, value));
  const places = new Map(items.map((item, place) => [item, place]));
  const show = () => {
    const words = field("q").value.toLowerCase().split(/\s+/).filter(Boolean), order = field("order").value;
    const key = item => item.dataset[order] || "\uffff";
    const sorted = order ? [...items].sort((a, b) => key(a) < key(b) ? -1 : key(a) > key(b) ? 1 : places.get(a) - places.get(b)) : items;
    let number = 0;
    for (const item of sorted) {
      const wanted = ["severity", "state", "answerer"].every(name => !field(name).value || item.dataset[name] === field(name).value);
      item.hidden = !(wanted && words.every(word => texts.get(item).includes(word)));
      number += !item.hidden;
      list.append(item);
    }
    field("count").textContent = number === items.length ? `${number} findings` : `${number} of ${items.length} findings`;
  };
  form.hidden = false;
  form.addEventListener("input", show);
  form.addEventListener("submit", event => event.preventDefault());
  show();
})();
