"use strict";
// The page on the phone: shows the cells that the program tells, and tells what fingers do. Nothing else.
const cells = document.getElementById("cells"), ask = document.getElementById("ask");
const code = document.getElementById("code"), says = document.getElementById("says");
const DOWN = "down", MOVED = "moved", UP = "up", LONGEST_WAIT = 1000;
let socket = null, wait = 100, refused = false, boxes = new Map(), moves = new Map(), fingers = new Map(), waiting = false;

function say(text) {
  says.textContent = "";
  if (text) says.appendChild(document.createElement("span")).textContent = text;
}

function hello() {
  const seat = sessionStorage.getItem("seat"), token = location.hash.slice(1);
  if (seat) return { seat };
  if (token) return { token };
  return null;
}

function connect(first) {
  const greeting = first || hello();
  refused = false;
  if (!greeting) { ask.hidden = false; code.focus(); return; }
  const own = new WebSocket(location.origin.replace(/^http/, "ws") + "/touch");
  socket = own;
  own.onopen = () => own.send(JSON.stringify(greeting));
  own.onmessage = (event) => { if (own === socket) hear(JSON.parse(event.data)); };
  own.onclose = () => {
    if (own !== socket) return;
    socket = null;
    forget();
    if (refused) return;
    say(document.body.dataset.lost);
    setTimeout(() => connect(), wait);
    wait = Math.min(LONGEST_WAIT, wait * 2);
  };
}

function hear(told) {
  if ("ping" in told) {
    socket.send(JSON.stringify({ pong: told.ping, at: performance.now() }));
  } else if ("held" in told) {
    light(told.held);
  } else if ("cells" in told) {
    fill(told);
  } else if ("seat" in told) {
    sessionStorage.setItem("seat", told.seat);
    history.replaceState(null, "", location.pathname);
    ask.hidden = true;
    cells.hidden = false;
    wait = 100;
    say("");
  } else if ("refused" in told) {
    refused = true;
    sessionStorage.removeItem("seat");
    history.replaceState(null, "", location.pathname);
    cells.hidden = true;
    ask.hidden = false;
    say(told.refused);
  }
}

function fill(face) {
  for (const [name, colour] of Object.entries(face.colours)) document.documentElement.style.setProperty("--" + name, colour);
  cells.style.gridTemplateRows = `repeat(${face.rows}, 1fr)`;
  cells.style.gridTemplateColumns = `repeat(${face.columns}, 1fr)`;
  cells.textContent = "";
  boxes = new Map();
  for (const cell of face.cells) {
    const box = document.createElement("div");
    box.className = "cell" + (cell.root ? " root" : "") + (cell.pale ? " pale" : "");
    box.style.gridRow = face.rows - cell.row;
    box.style.gridColumn = cell.column + 1;
    if (!cell.pale) box.style.setProperty("--own", cell.colour);
    box.appendChild(document.createElement("b")).textContent = cell.label;
    box.appendChild(document.createElement("i")).textContent = cell.below;
    box.appendChild(document.createElement("u"));
    for (const part of cell.ladder) box.appendChild(document.createElement("s")).style.top = `${10 + 80 * (1 - part)}%`;
    cells.appendChild(box);
    boxes.set(`${cell.row},${cell.column}`, box);
  }
}

function light(held) {
  const now = new Map(held.map(([row, column, velocity]) => [`${row},${column}`, velocity]));
  for (const [place, box] of boxes) {
    box.classList.toggle("lit", now.has(place));
    box.querySelector("u").textContent = now.get(place) || "";
  }
}

// Fingers come as touch events, whose list of touches says what is still down, whatever was missed before;
// mouse and pen as pointer events.

function touch(doing, finger, point, felt) {
  const own = cells.getBoundingClientRect();
  const clip = (v) => Math.max(-1, Math.min(2, v));
  // Surfaces that feel no pressure say 0, 0.5 or 1.
  const pressure = felt > 0 && felt < 1 && felt !== 0.5 ? felt : null;
  return [doing, finger, clip((point.clientX - own.left) / own.width), clip(1 - (point.clientY - own.top) / own.height), pressure];
}

function send(touches, at) {
  for (let i = 0; i < touches.length; i += 16)
    if (socket && socket.readyState === 1) socket.send(JSON.stringify({ at, touches: touches.slice(i, i + 16) }));
}

function flush() {
  waiting = false;
  const rows = [...moves.values()];
  moves.clear();
  send(rows, performance.now());
}

let number = 0;
function began(key, point, felt) {
  fingers.set(key, number = (number + 1) % 1000000);
  return touch(DOWN, number, point, felt);
}

function moved(key, point, felt) {
  if (!fingers.has(key)) return;
  moves.set(key, touch(MOVED, fingers.get(key), point, felt));
  if (!waiting) { waiting = true; requestAnimationFrame(flush); }
}

function ended(key) {
  const finger = fingers.get(key);
  moves.delete(key);
  fingers.delete(key);
  return [UP, finger, 0, 0, null];
}

function follow(event) {
  if (event.cancelable) event.preventDefault();
  const there = new Map([...event.touches].map((point) => ["t" + point.identifier, point]));
  const rows = [...fingers.keys()].filter((key) => key[0] === "t" && !there.has(key)).map(ended);
  if (event.type === "touchstart") {
    for (const point of event.changedTouches) {
      const key = "t" + point.identifier;
      if (fingers.has(key)) rows.push(ended(key));
      rows.push(began(key, point, point.force));
    }
    keepAwake();
  } else if (event.type === "touchmove") {
    for (const point of event.changedTouches) moved("t" + point.identifier, point, point.force);
  }
  send(rows, event.timeStamp);
}
for (const kind of ["touchstart", "touchmove", "touchend", "touchcancel"])
  cells.addEventListener(kind, follow, { passive: false });

cells.addEventListener("pointerdown", (event) => {
  if (event.pointerType === "touch") return;
  event.preventDefault();
  cells.setPointerCapture(event.pointerId);
  send([began("p" + event.pointerId, event, event.pressure)], event.timeStamp);
  keepAwake();
});
cells.addEventListener("pointermove", (event) => moved("p" + event.pointerId, event, event.pressure));
for (const kind of ["pointerup", "pointercancel", "lostpointercapture"]) cells.addEventListener(kind, (event) => {
  if (fingers.has("p" + event.pointerId)) send([ended("p" + event.pointerId)], event.timeStamp);
});
for (const kind of ["contextmenu", "gesturestart", "dblclick"])
  cells.addEventListener(kind, (event) => event.preventDefault(), { passive: false });

function forget() { fingers.clear(); moves.clear(); light([]); }

function allUp() {
  const rows = [...fingers.keys()].map(ended);
  forget();
  send(rows, performance.now());
}
document.addEventListener("visibilitychange", () => { if (document.hidden) allUp(); else lock = null; });
addEventListener("blur", allUp);
addEventListener("pagehide", allUp);

// The screen stays on: by the browser's own means where it has them, else by a film without a picture.
let lock = null;
function keepAwake() {
  if (lock) return;
  lock = true;
  const film = () => document.getElementById("awake").play().catch(() => { lock = null; });
  if (navigator.wakeLock) navigator.wakeLock.request("screen").catch(film); else film();
}

ask.addEventListener("submit", (event) => {
  event.preventDefault();
  say("");
  connect({ code: code.value.trim() });
  code.value = "";
});
connect();
