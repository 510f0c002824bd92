// The harbour office's front end: a page with the berths that the API knows.
const http = require("node:http");

const title = "Harbour office 1";

http.createServer(async (request, answer) => {
  try {
    const berths = await (await fetch(process.env.API + "/berths")).json();
    const rows = berths.map((b) => `<tr><td>${b.harbour}<td>${b.number}<td>${b.vessel}`).join("\n");
    answer.setHeader("content-type", "text/html; charset=utf-8");
    answer.end(`<!doctype html><title>${title}</title><h1>${title}</h1><table>${rows}</table>`);
  } catch (error) {
    answer.writeHead(502).end(String(error));
  }
  console.log(request.method, request.url, answer.statusCode);
}).listen(+process.env.PORT, "127.0.0.1", () => console.log("front end on port", process.env.PORT));
