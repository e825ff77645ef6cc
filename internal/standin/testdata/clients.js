// Two client libraries of JavaScript do a small round on the stand-in whose URL is the argument.
// What they did is printed as JSON, a line for each library.
const assert = require("assert");
const { OData } = require("@odata/client");
const { o } = require("odata");

const base = process.argv[2];

async function first() {
  const client = OData.New4({ serviceEndpoint: base });
  const depots = client.getEntitySet("depots");
  const all = await depots.query();
  assert.equal(all.length, 8);
  const some = await depots.query(client.newOptions().filter("startswith(name,'Gannet')").select("code"));
  assert.deepEqual(some.map((d) => d.code), ["D02"]);
  assert.equal(await depots.count(), 8);
  const one = await depots.retrieve("D02", client.newOptions().select(["code", "name"]));
  assert.equal(one.name, "Gannet Point depot");
  const made = await depots.create({ code: "D20", name: "Heron Steps depot" });
  assert.equal(made.code, "D20");
  await depots.update("D20", { phone: "020 7946 0200" });
  assert.equal((await depots.retrieve("D20")).phone, "020 7946 0200");
  await assert.rejects(depots.create({ code: "D20", name: "again" }), /already/);
  await assert.rejects(depots.delete("D02"), /refer/);
  const visits = client.getEntitySet("visits");
  const visit = await visits.query(client.newOptions().filter("aid_no eq '00102' and audited_hours gt 1").orderby("due", "desc").top(1));
  assert.equal(visit.length, 1);
  const answers = await client.execBatchRequests([
    client.newBatchRequest({ collection: "depots", method: "GET", id: "D20" }),
    client.newBatchRequest({ collection: "depots", method: "PATCH", id: "D20", entity: { phone: "1" }, withContentLength: false }),
    client.newBatchRequest({ collection: "depots", method: "DELETE", id: "D20", withContentLength: true }),
  ]);
  const inJSON = await client.execBatchRequestsJson([client.newBatchRequest({ collection: "staff", method: "GET", id: "U-1004" })]);
  assert.equal((await inJSON[0].json()).staff_id, "U-1004");
  return { library: "@odata/client", batch: answers.map((a) => a.status), depots: await depots.count() };
}

async function second() {
  const aids = await o(base).get("aids").query({ $filter: "zone eq 'outer'", $select: "aid_no,service_fee", $orderby: "service_fee desc", $top: 3 });
  assert.equal(aids.length, 3);
  const one = await o(base).get("aids('00107')").query({ $expand: "depot_record" });
  assert.equal(one.depot_record.code, "D02");
  await o(base).post("depots", { code: "D21", name: "Skerry Ledge depot" }).query();
  await o(base).patch("depots('D21')", { phone: "2" }).query();
  const read = await o(base).get("depots('D21')").query();
  assert.equal(read.phone, "2");
  const statuses = await o(base)
    .get("depots('D21')")
    .patch("depots('D21')", { phone: "3" })
    .batch();
  assert.equal((await o(base).get("depots('D21')").query()).phone, "3");
  await o(base).delete("depots('D21')").query();
  const batch = { boundaryPrefix: "batch_", changsetBoundaryPrefix: "changset_", endpoint: "$batch", headers: new Headers(), useChangset: true, useRelativeURLs: true };
  await o(base, { batch }).patch("depots('D01')", { phone: "4" }).patch("depots('D03')", { phone: "5" }).batch();
  assert.equal((await o(base).get("depots('D03')").query()).phone, "5");
  return { library: "odata", batch: statuses.length };
}

(async () => {
  for (const drive of [first, second]) {
    console.log(JSON.stringify(await drive()));
  }
})().catch((e) => {
  console.error(e);
  process.exit(1);
});
