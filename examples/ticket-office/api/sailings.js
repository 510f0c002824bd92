const fares = { "Little Marram": 4.2, "Gannet Point": 5.6, "Wick Sound": 8.9 };

// sailings are all from Skerry Holm, the cheapest first.
export function sailings() {
  return Object.entries(fares)
    .map(([to, fare]) => ({ from: "Skerry Holm", to, fare }))
    .sort((a, b) => a.fare - b.fare);
}
