<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, got } from '../api/client'
import FormDialog from '../components/FormDialog.vue'

/** Halts all changes of the installation, or lets them go on; looks are never halted. */
const props = defineProps<{ halted: boolean; by?: string }>()
const open = defineModel<boolean>({ required: true })
const because = ref('')
const queries = useQueryClient()
const set = () =>
  got(api.PUT('/api/v1/halt', { body: { halted: !props.halted, because: because.value.trim() || undefined } }))
</script>

<template>
  <FormDialog
    v-model="open"
    :title="halted ? 'Let changes go on?' : 'Halt all changes?'"
    :says="
      halted
        ? `Changes are halted by ${by}. What waits for this goes on at once.`
        : 'No runbook begins a change on any service until somebody lets them go on. What is under way on a host comes to its end. Looks, messages and approvals go on.'
    "
    :button="halted ? 'Let changes go on' : 'Halt all changes'"
    :go="set"
    @done="queries.invalidateQueries({ queryKey: ['status'] })"
  >
    <v-text-field v-model="because" label="Why, for the record" hide-details maxlength="1000" autofocus />
  </FormDialog>
</template>
