export interface Sailing {
  from: string;
  to: string;
  fare: number;
}

// row is a sailing as a row of the table.
export function row(sailing: Sailing): HTMLTableRowElement {
  const element = document.createElement("tr");
  for (const text of [sailing.from, sailing.to, sailing.fare.toFixed(2)]) {
    element.insertCell().textContent = text;
  }
  return element;
}
