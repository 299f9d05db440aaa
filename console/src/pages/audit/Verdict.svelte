<script lang="ts">
  // Whether the audit log is what was written.
  import { count, local, plural } from "../../lib/format";
  import type { Schemas } from "../../api/client";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  let { report }: { report: Schemas["AuditReport"] } = $props();
</script>

<Panel title="The log" note={report.log}>
  <div class="space-y-1 px-4 py-3 text-sm" role="status">
    <p>
      <State state={report.holds ? "holds" : "does not hold"} />
      {report.holds
        ? `${count(report.entries)} entries, each as it was written; ${count(report.archived)} of them in segments`
        : "It is not what was written. Keep the catalog as it is, and compare it with a backup."}
    </p>
    <p class="text-gray-600 dark:text-gray-400">
      Compared with {plural(report.heads, "head")} in stores{report.newest
        ? `, the newest of ${local(report.newest)}`
        : ""}; {plural(report.erased, "detail")} erased; read in {report.took.toFixed(2)} s.
    </p>
    {#if report.unread}<p>
        {count(report.unread)} entries could not be checked: the store of their segments does not answer.
      </p>{/if}
    {#if report.destroyed}<p>
        Those up to {count(report.destroyed)} were kept long enough and destroyed.
      </p>{/if}
    {#each report.away as a (a)}<p>Could not ask {a}</p>{/each}
    <ul class="list-disc ps-5">
      {#each report.faults as f, i (i)}<li>{f.message}</li>{/each}
      {#if report.more}<li>and {count(report.more)} more</li>{/if}
    </ul>
  </div>
</Panel>
