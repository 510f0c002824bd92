import { row, type Sailing } from "./sailings";

const table = document.querySelector("#sailings");
async function load(): Promise<void> {
  const sailings: Sailing[] = await (await fetch("/api/sailings")).json();
  table?.replaceChildren(...sailings.map(row));
}

void load();
