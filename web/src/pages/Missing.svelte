<script lang="ts">
  import Notice from "../lib/Notice.svelte";
  import { navigate } from "../lib/routes";
</script>

<Notice
  title="There is no page at this address"
  text="The address may be incomplete."
  action="Show the runs"
  onaction={() => navigate("/")}
/>
