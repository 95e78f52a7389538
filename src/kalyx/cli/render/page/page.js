"use strict";
const map = document.querySelector(".map"), peek = document.querySelector(".peek");
const hint = peek ? peek.innerHTML : "";
function light(seats) {
  if (!map) return;
  const wanted = new Set(seats ? seats.split(" ") : []);
  map.classList.toggle("picking", wanted.size > 0);
  for (const part of map.querySelectorAll("[data-seats]"))
    part.classList.toggle("lit", part.dataset.seats.split(" ").some((one) => wanted.has(one)));
  peek.replaceChildren();
  if (!wanted.size) { peek.innerHTML = hint; return; }
  const way = document.getElementById("way-" + [...wanted][0]);
  if (way) {
    const copy = way.cloneNode(true);
    for (const one of [copy, ...copy.querySelectorAll("[id]")]) one.removeAttribute("id");
    for (const one of copy.querySelectorAll("details")) one.remove();
    peek.append(copy);
  }
}
for (const seat of document.querySelectorAll(".map a.seat")) {
  const seats = seat.dataset.seats;
  seat.addEventListener("mouseenter", () => light(seats));
  seat.addEventListener("focus", () => light(seats));
}
document.addEventListener("keydown", (event) => { if (event.key === "Escape") light(""); });
async function copied(text) {
  try { await navigator.clipboard.writeText(text); return true; } catch (refused) { /* the older way below */ }
  const field = document.createElement("textarea");
  field.value = text; document.body.append(field); field.select();
  const done = document.execCommand("copy");
  field.remove();
  return done;
}
document.addEventListener("click", async (event) => {
  const button = event.target.closest("button.copy");
  if (!button) return;
  const line = button.parentElement.querySelector("code").textContent;
  button.textContent = (await copied(line)) ? "copied" : "select it";
  button.focus();
  setTimeout(() => { button.textContent = "copy"; }, 1800);
});
