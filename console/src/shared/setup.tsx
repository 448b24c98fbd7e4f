// What is set up once and looked at now and then: rosters, repositories, clusters, versions, registries, secrets, stores, rules, alerts, kits, people, each a page of its own behind one entry.
import { useContext } from "react";
import { NavLink, Outlet } from "react-router";
import { May } from "./parts";

const pages: [path: string, name: string][] = [
  ["/rosters", "Rosters"],
  ["/repositories", "Repositories"],
  ["/clusters", "Clusters"],
  ["/versions", "Versions"],
  ["/registries", "Registries"],
  ["/secrets", "Secrets"],
  ["/stores", "Stores"],
  ["/rules", "Rules"],
  ["/alerts", "Alerts"],
  ["/kits", "Kits"],
  ["/people", "People"],
  ["/audit", "What was done"],
];

/** Whether a page is one of them. */
export const inSetUp = (path: string) => pages.some(([p]) => path === p);

export function SetUp() {
  const { role } = useContext(May);
  if (role === "member") return <Outlet />; // the others are for who sees everything
  return (
    <>
      <nav aria-label="Set up" className="-mt-2 mb-5 flex flex-wrap gap-1">
        {pages.map(([path, name]) => (
          <NavLink
            key={path}
            to={path}
            className={({ isActive }) =>
              `rounded px-2.5 py-1 text-sm ${isActive ? "bg-rule" : "text-soft hover:text-ink"}`
            }
          >
            {name}
          </NavLink>
        ))}
      </nav>
      <Outlet />
    </>
  );
}
