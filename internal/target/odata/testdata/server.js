// A service by odata-v4-server, a library that has nothing of ours: it gives no ETags, takes no batches, and knows no request again.
// NODE_PATH names where it is; the argument is the fields and the records, as JSON. It prints the port that it listens on.
"use strict";

const { ODataServer, ODataController, odata, Edm } = require("odata-v4-server");
const express = require("express");

class Aid {}
Edm.Key(Aid.prototype, "k");
const types = { hours: Edm.Int32, lit: Edm.Boolean, due: Edm.Date }; // the others are texts
const [fields, aids] = JSON.parse(process.argv[2]);
for (const name of fields) (types[name] || Edm.String)(Aid.prototype, name);

const at = (key) => aids.findIndex((a) => a.k === key);

class AidsController extends ODataController {
  find() { return aids.map((a) => Object.assign(new Aid(), a)); }
  findOne(key) { const i = at(key); return i < 0 ? undefined : Object.assign(new Aid(), aids[i]); }
  insert(body) {
    if (at(body.k) >= 0) { const e = new Error("aid " + body.k + " is there"); e.status = 409; throw e; }
    aids.push(Object.assign({}, body));
    return Object.assign(new Aid(), body);
  }
  update(key, delta) {
    const i = at(key);
    if (i < 0) return 0;
    if (delta.w === "no") { const e = new Error("w cannot be no"); e.status = 400; throw e; }
    delete delta["@odata.type"];
    Object.assign(aids[i], delta);
    return 1;
  }
  remove(key) {
    const i = at(key);
    if (i < 0) return 0;
    aids.splice(i, 1);
    return 1;
  }
}
const method = (decorator, name) => decorator(AidsController.prototype, name, Object.getOwnPropertyDescriptor(AidsController.prototype, name));
method(odata.GET, "find");
method(odata.GET, "findOne");
method(odata.POST, "insert");
method(odata.PATCH, "update");
method(odata.DELETE, "remove");
odata.key(AidsController.prototype, "findOne", 0);
odata.body(AidsController.prototype, "insert", 0);
odata.key(AidsController.prototype, "update", 0);
odata.body(AidsController.prototype, "update", 1);
odata.key(AidsController.prototype, "remove", 0);
odata.type(Aid)(AidsController);

class Service extends ODataServer {}
odata.namespace("Harbour")(Service);
odata.controller(AidsController, "aids")(Service);

const app = express();
app.use("/odata", Service.create());
const server = app.listen(0, "127.0.0.1", () => console.log(server.address().port));
