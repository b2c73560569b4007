// A SCIM application in memory on a free port of the loopback interface, which it says in its first
// line. All of SCIM is the library's; here stands only where it keeps users and groups, and which
// of them are there from the beginning. It ends with its standard input.
import { randomUUID } from "node:crypto";
import express from "express";
import SCIMMY from "scimmy";
import SCIMMYRouters from "scimmy-routers";

const { User, Group } = SCIMMY.Resources;
User.extend(SCIMMY.Schemas.EnterpriseUser);

function keep(Resource, unique, rows) {
  const kept = new Map(rows.map((row) => [row.id, row]));
  SCIMMY.Resources.declare(Resource, {
    egress: (resource) => {
      if (!resource.id) return resource.filter ? resource.filter.match([...kept.values()]) : [...kept.values()];
      if (kept.has(resource.id)) return kept.get(resource.id);
      throw new SCIMMY.Types.Error(404, null, `there is no ${resource.id}`);
    },
    ingress: (resource, data) => {
      const { id = randomUUID() } = resource;
      if (resource.id && !kept.has(id)) throw new SCIMMY.Types.Error(404, null, `there is no ${id}`);
      for (const other of kept.values())
        if (other.id !== id && other[unique].toLowerCase() === data[unique].toLowerCase()) throw new SCIMMY.Types.Error(409, "uniqueness", `${data[unique]} is taken`);
      const now = new Date().toISOString();
      const { password, ...row } = JSON.parse(JSON.stringify(data)); // never kept
      kept.set(id, { ...row, id, meta: { created: kept.get(id)?.meta?.created ?? now, lastModified: now } });
      return kept.get(id);
    },
    degress: (resource) => {
      if (!kept.delete(resource.id)) throw new SCIMMY.Types.Error(404, null, `there is no ${resource.id}`);
    },
  });
}

keep(User, "userName", ["a", "b", "c"].map((id) => ({ id, userName: `user-${id}`, active: id !== "c" })));
keep(Group, "displayName", [{ id: "g1", displayName: "Observers", members: [] }]);

const app = express();
app.use("/scim/v2", new SCIMMYRouters({
  type: "bearer",
  handler: (request) => {
    if (request.header("Authorization") !== `Bearer ${process.env.TOKEN}`) throw new Error("another token is wanted");
    return "a";
  },
}));
const server = app.listen(0, "127.0.0.1", () => console.log(server.address().port));
process.stdin.resume().on("end", () => process.exit(0));
