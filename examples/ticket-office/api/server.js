import { createServer } from "node:http";
import { sailings } from "./sailings.js";

const port = Number(process.env.PORT);
createServer((request, answer) => {
  if (request.url !== "/api/sailings") {
    answer.writeHead(404).end();
    return;
  }
  answer.setHeader("Content-Type", "application/json");
  answer.end(JSON.stringify(sailings()));
}).listen(port, "127.0.0.1", () => console.log(`selling tickets on ${port}`));
