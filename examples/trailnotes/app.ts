// Trail notes: an app of one's own on a device in the browser. It opens, lists and saves without signal.
import { open } from "homing-device/browser";

const part = <T extends HTMLElement>(id: string) => document.getElementById(id) as T;
const say = (text: string) => (part("said").textContent = text);
const store = await open("trailnotes").catch((error: Error) => {
  say(error.message);
  throw error;
});

/** Does something that may fail, and says why if it does. */
async function attempt(work: () => Promise<void>): Promise<void> {
  try {
    await work();
  } catch (error) {
    say(error instanceof Error ? error.message : String(error));
  }
}

async function exchange(): Promise<void> {
  say("Exchanging …");
  const sum = await store.exchange({ watch: ({ phase, done }) => say(`${phase}: ${done}`) });
  say(`${sum.sent} sent, ${sum.received} received`);
}

function start(): void {
  part("enrol").hidden = true;
  part("notes").hidden = false;
  store.live("trails", { sort: "name", limit: 1000 }, ({ records }) => {
    const items = records.map((trail) => {
      const item = document.createElement("li");
      item.textContent = trail.label + (trail.pending > 0 ? " (unsent)" : "");
      return item;
    });
    part("list").replaceChildren(...items);
  });
}

part("enrol").onsubmit = (event) => {
  event.preventDefault();
  const form = new FormData(part<HTMLFormElement>("enrol"));
  void attempt(async () => {
    await store.enrol(String(form.get("central")), String(form.get("code")), "Trail notes");
    await exchange();
    start();
  });
};

part("add").onsubmit = (event) => {
  event.preventDefault();
  const form = part<HTMLFormElement>("add");
  void attempt(async () => {
    await store.add("trails", { name: String(new FormData(form).get("name")) }); // on the disk when it resolves
    form.reset();
  });
};
part("exchange").onclick = () => void attempt(exchange);
if ((await store.status()).enrolled) start();
else part("enrol").hidden = false;
