<script lang="ts">
  import { Badge } from "./ui";
  let { state }: { state: string } = $props();
  const colors = {
    done: "green",
    sent: "green",
    ok: "green",
    closed: "green",
    running: "blue",
    queued: "gray",
    paused: "yellow",
    working: "blue",
    holds: "green",
    "does not hold": "red",
    began: "yellow",
    waiting: "gray",
    resting: "indigo",
    copied: "yellow",
    failed: "red",
    cancelled: "gray",
    open: "yellow",
    writing: "blue",
    planned: "yellow",
    disposed: "gray",
    expired: "gray",
    asked: "yellow",
    retrieving: "indigo",
    refused: "gray",
    ready: "green",
    over: "gray",
    cold: "indigo",
    due: "blue",
    asking: "yellow",
    started: "green",
    nothing: "gray",
    skipped: "gray",
    coming: "indigo",
    urgent: "red",
    warning: "yellow",
    notice: "gray",
    acknowledged: "gray"
  } as const;
</script>

<Badge color={colors[state as keyof typeof colors] ?? "gray"}>{state}</Badge>
