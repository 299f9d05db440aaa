<script lang="ts">
  // The segments of its table that a disposal leaves, and why.
  import type { Schemas } from "../../api/client";
  import { count, plural, short } from "../../lib/format";

  let { d, stays }: { d: Schemas["Disposal"]; stays: Schemas["DisposalStay"][] } = $props();
</script>

<details>
  <summary class="cursor-pointer text-gray-600 dark:text-gray-400"
    >What stays of the table: {plural(d.staying, "segment")}</summary>
  <ul class="mt-1 space-y-0.5 text-xs">
    {#each stays as x (x.segment)}<li>
        <a class="text-link font-mono" href="#/archive/{x.segment}" title={x.segment}>{short(x.segment)}</a>: {x.reason}
      </li>{/each}{#if stays.length && d.staying > stays.length}<li>
        and {count(d.staying - stays.length)} more; <code>ambercellar disposal show {d.id}</code> lists all
      </li>{/if}
  </ul>
</details>
