// A SCIM service of another make, for the tests: users and groups in memory, made from the file named first.
import { readFileSync } from "node:fs";
import express from "express";
import SCIMMY from "scimmy";
import SCIMMYRouters from "scimmy-routers";

const [, , file, port, token] = process.argv;
const tenant = JSON.parse(readFileSync(file, "utf-8"));

function kept(resources) {
  const rows = new Map(resources.map((resource) => [resource.id, resource]));
  return (resource) => {
    if (resource.id) {
      if (!rows.has(resource.id)) throw new SCIMMY.Types.Error(404, null, "no such resource");
      return rows.get(resource.id);
    }
    return [...rows.values()];
  };
}

SCIMMY.Resources.User.extend(SCIMMY.Schemas.EnterpriseUser, false);
const users = new Map(tenant.users.map((user) => [user.id, user]));
SCIMMY.Resources.declare(SCIMMY.Resources.User)
  .egress(kept(tenant.users))
  .ingress((resource, data) => {
    const given = JSON.parse(JSON.stringify(data));
    return Object.assign(users.get(resource.id), { roles: [] }, given);
  });
SCIMMY.Resources.declare(SCIMMY.Resources.Group).egress(kept(tenant.groups));

const service = express();
service.use(
  "/scim/v2",
  new SCIMMYRouters({
    type: "bearer",
    handler: (request) => {
      if (request.header("Authorization") !== `Bearer ${token}`) throw new Error("not authorised");
      return "reader";
    },
  }),
);
service.listen(Number(port), "127.0.0.1", () => console.log("ready"));
