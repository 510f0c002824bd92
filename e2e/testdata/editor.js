// An editor without a screen: it speaks to the server through a client library, and checks every answer with it.
const { spawn } = require("child_process");
const fs = require("fs");
const rpc = require("vscode-jsonrpc/node");
const lsp = require("vscode-languageserver-protocol/node");

const [program, dir, file] = process.argv.slice(2);
const server = spawn(program, ["lsp"], { stdio: ["pipe", "pipe", "inherit"] });
const connection = lsp.createProtocolConnection(
  new rpc.StreamMessageReader(server.stdout), new rpc.StreamMessageWriter(server.stdin));
const uri = "file://" + file;
const published = [], messages = [];
let changed = () => {};

function check(is, what) {
  if (!is) throw new Error("wrong: " + JSON.stringify(what));
}

async function until(condition) {
  while (!condition()) await new Promise((resolve) => (changed = resolve));
}

async function main() {
  connection.onNotification(lsp.PublishDiagnosticsNotification.type, (p) => {
    for (const d of p.diagnostics) check(lsp.Diagnostic.is(d), d);
    if (p.uri === uri) published.push(p.diagnostics);
    changed();
  });
  connection.onNotification(lsp.ShowMessageNotification.type, (p) => { messages.push(p.message); changed(); });
  connection.onRequest(lsp.CodeLensRefreshRequest.type, () => {});
  connection.listen();
  const answer = await connection.sendRequest(lsp.InitializeRequest.type, {
    processId: process.pid, rootUri: null,
    workspaceFolders: [{ uri: "file://" + dir, name: "pier" }, { uri: "file:///nowhere", name: "none" }],
    capabilities: { workspace: { workspaceFolders: true, codeLens: { refreshSupport: true } } },
  });
  check(answer.serverInfo.name === "omnivigil" && answer.capabilities.codeLensProvider, answer);
  await connection.sendNotification(lsp.InitializedNotification.type, {});
  const text = fs.readFileSync(file, "utf8");
  await connection.sendNotification(lsp.DidOpenTextDocumentNotification.type, {
    textDocument: { uri, languageId: "go", version: 1, text },
  });

  await until(() => published.length > 0 && published.at(-1).some((d) => /failed/.test(d.message)));
  const lenses = await connection.sendRequest(lsp.CodeLensRequest.type, { textDocument: { uri } });
  for (const l of lenses) check(lsp.CodeLens.is(l) && lsp.Command.is(l.command), l);
  const range = published.at(-1)[0].range;
  const actions = await connection.sendRequest(lsp.CodeActionRequest.type, {
    textDocument: { uri }, range, context: { diagnostics: published.at(-1) },
  });
  for (const a of actions) check(lsp.CodeAction.is(a), a);
  check(actions.length === lenses.length, actions);
  const explain = lenses.find((l) => l.command.title === "explain").command;
  messages.length = 0;
  await connection.sendRequest(lsp.ExecuteCommandRequest.type, explain);
  await until(() => messages.length > 0);
  console.log(JSON.stringify({ lenses: lenses.map((l) => l.command.title), explained: messages[0], at: range.start }));

  await connection.sendNotification(lsp.DidChangeTextDocumentNotification.type, {
    textDocument: { uri, version: 2 },
    contentChanges: [{ range: { start: range.start, end: range.start }, text: " " }],
  });
  await until(() => published.at(-1).some((d) => /the line is that of the saved file/.test(d.message)));
  await connection.sendRequest(lsp.ShutdownRequest.type);
  await connection.sendNotification(lsp.ExitNotification.type);
  server.on("exit", (status) => process.exit(status));
}

main().catch((err) => { console.error(err); process.exit(1); });
