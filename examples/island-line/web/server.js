// A page with what the two APIs know.
const http = require("node:http");

const title = "Island line 1";
const ask = async (port) => (await (await fetch(`http://127.0.0.1:${port}/`)).text()).replaceAll("\n", "<br>");

http.createServer(async (request, answer) => {
  answer.setHeader("content-type", "text/html; charset=utf-8");
  try {
    const [berths, fares] = await Promise.all([ask(process.env.BERTHS), ask(process.env.FARES)]);
    answer.end(`<!doctype html><title>${title}</title><h1>${title}</h1><p>${berths}<p>${fares}`);
  } catch (error) {
    answer.writeHead(502).end(String(error));
  }
  console.log(request.method, request.url, answer.statusCode);
}).listen(+process.env.PORT, "127.0.0.1", () => console.log("web on port", process.env.PORT));
