// The fares of the island line, from a list in the database.
const http = require("node:http");
const net = require("node:net");

const title = "fares 1";

// list reads a list from a Redis (the protocol is RESP 2).
function list(name) {
  return new Promise((resolve, reject) => {
    const db = net.connect(+process.env.DB_PORT, "127.0.0.1", () => db.write(`LRANGE ${name} 0 -1\r\n`));
    let text = "";
    db.on("error", reject);
    db.on("data", (part) => {
      text += part;
      const lines = text.split("\r\n");
      const count = +lines[0].slice(1);
      if (lines.length > 2 * count + 1) {
        db.end();
        resolve(lines.filter((_, n) => n > 0 && n % 2 === 0 && n <= 2 * count));
      }
    });
  });
}

http.createServer(async (request, answer) => {
  try {
    answer.end([title, ...(await list("fares"))].join("\n"));
  } catch (error) {
    answer.writeHead(502).end(String(error));
  }
}).listen(+process.env.PORT, "127.0.0.1", () => console.log("fares on port", process.env.PORT));
