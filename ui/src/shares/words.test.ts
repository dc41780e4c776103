import { expect, test } from "vitest";
import type { Outline, Share } from "../api/client";
import { hostPath, indexed, type Named } from "../plan/index";
import { connections, reachedAs } from "./words";

const share = { id: "s", name: "old plans", place: "plans", smb: true, nfs: true } as Share;
const index = indexed({
  users: [],
  groups: [],
  places: [
    { id: "keel", name: "keel", parent: null },
    { id: "plans", name: "plans #1 & all", parent: "keel" },
  ],
  inactive: [],
  namesakes: [],
  directories: [],
} as unknown as Named);

test("clients mount the folder that the appliance has, below where its pools lie", () => {
  expect(hostPath(index, "/srv", "plans")).toBe("/srv/keel/plans #1 & all");
  expect(hostPath(index, "/", "keel")).toBe("/keel");
  const lines = Object.fromEntries(connections(share, "keelson", hostPath(index, "/srv", "plans")));
  expect(lines["NFS, /etc/fstab"]).toBe(String.raw`keelson:/srv/keel/plans\040\0431\040&\040all /mnt/old%20plans nfs4 _netdev 0 0`);
  expect(lines["Linux, /etc/fstab"]).toContain(String.raw`//keelson/old\040plans /mnt/`);
  expect(lines.Windows).toBe(String.raw`\\keelson\old plans`);
});

test("the lines name the server as the plan says that clients reach it", () => {
  const plan = { name: "keelson", target: { addresses: ["files.quay.example", "2001:db8::7"] } } as unknown as Outline;
  expect(reachedAs(plan)).toBe("files.quay.example");
  expect(reachedAs({ ...plan, target: { ...plan.target, addresses: [] } })).toBe("keelson");
  const lines = Object.fromEntries(connections(share, "2001:db8::7", "/srv/keel"));
  expect(lines.Windows).toBe(String.raw`\\2001-db8--7.ipv6-literal.net\old plans`);
  expect(lines["macOS, Linux desktops"]).toBe("smb://[2001:db8::7]/old%20plans");
  expect(lines["NFS, /etc/fstab"]).toContain("[2001:db8::7]:/srv/keel /mnt/");
});
