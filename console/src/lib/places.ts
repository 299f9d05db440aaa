// The pages that are offered, in their order.
import type { Component } from "svelte";
import AdjustmentsHorizontalOutline from "flowbite-svelte-icons/AdjustmentsHorizontalOutline.svelte";
import ArchiveOutline from "flowbite-svelte-icons/ArchiveOutline.svelte";
import BadgeCheckOutline from "flowbite-svelte-icons/BadgeCheckOutline.svelte";
import CalendarMonthOutline from "flowbite-svelte-icons/CalendarMonthOutline.svelte";
import ChartMixedOutline from "flowbite-svelte-icons/ChartMixedOutline.svelte";
import ClipboardListOutline from "flowbite-svelte-icons/ClipboardListOutline.svelte";
import ChartPieOutline from "flowbite-svelte-icons/ChartPieOutline.svelte";
import CogOutline from "flowbite-svelte-icons/CogOutline.svelte";
import DatabaseOutline from "flowbite-svelte-icons/DatabaseOutline.svelte";
import EnvelopeOutline from "flowbite-svelte-icons/EnvelopeOutline.svelte";
import ExclamationCircleOutline from "flowbite-svelte-icons/ExclamationCircleOutline.svelte";
import FileLinesOutline from "flowbite-svelte-icons/FileLinesOutline.svelte";
import ListOutline from "flowbite-svelte-icons/ListOutline.svelte";
import LockOutline from "flowbite-svelte-icons/LockOutline.svelte";
import PlayOutline from "flowbite-svelte-icons/PlayOutline.svelte";
import SearchOutline from "flowbite-svelte-icons/SearchOutline.svelte";
import TrashBinOutline from "flowbite-svelte-icons/TrashBinOutline.svelte";
import UndoOutline from "flowbite-svelte-icons/UndoOutline.svelte";
import type { Right } from "./who.svelte";

/** Place is a page that is offered to whoever has a right in any source; all: to who may see all sources. */
interface Place {
  href: string;
  text: string;
  icon: Component;
  right?: Right;
  all?: boolean;
}

export const places: Place[] = [
  { href: "#/", text: "Overview", icon: ChartPieOutline, all: true },
  { href: "#/findings", text: "Findings", icon: ExclamationCircleOutline, all: true },
  { href: "#/approvals", text: "Approvals", icon: BadgeCheckOutline },
  { href: "#/tables", text: "Tables", icon: DatabaseOutline },
  { href: "#/rules", text: "Rules", icon: FileLinesOutline },
  { href: "#/schedule", text: "Schedule", icon: CalendarMonthOutline },
  { href: "#/queue", text: "Queue", icon: ListOutline },
  { href: "#/runs", text: "Runs", icon: PlayOutline },
  { href: "#/history", text: "History", icon: ChartMixedOutline, all: true },
  { href: "#/archive", text: "Archive", icon: ArchiveOutline },
  { href: "#/search", text: "Search", icon: SearchOutline, right: "rows" },
  { href: "#/restores", text: "Restores", icon: UndoOutline },
  { href: "#/disposals", text: "Disposals", icon: TrashBinOutline },
  { href: "#/holds", text: "Holds", icon: LockOutline },
  { href: "#/notifications", text: "Notifications", icon: EnvelopeOutline, all: true },
  { href: "#/audit", text: "Audit", icon: ClipboardListOutline, all: true },
  { href: "#/settings", text: "Settings", icon: AdjustmentsHorizontalOutline, all: true },
  { href: "#/service", text: "Service", icon: CogOutline, all: true }
];
