<script setup lang="ts">
import InputText from './InputText.vue'
import TextArea from './TextArea.vue'
import { computed, defineAsyncComponent } from 'vue'
import JSONInput from '../../../faces/parts/JSONInput.vue'
import MomentInput from '../../../faces/parts/MomentInput.vue'
import NumberInput from '../../../faces/parts/NumberInput.vue'
import NumbersInput from '../../../faces/parts/NumbersInput.vue'
import PartsInput from '../../../faces/parts/PartsInput.vue'
import { periodChoices } from '../../../faces/periods'
import { hasParts, isLine, isLong, isNumber, isPoint, schemaOf, type FieldLike } from '../../../faces/schema'
import { t } from '../../../faces/words'
import { choiceTitle, stays, type Definition } from '../definitions'
import ChoiceBox from './ChoiceBox.vue'
import ReferenceBox from './ReferenceBox.vue'
import TextsBox from './TextsBox.vue'

const PlaceBox = defineAsyncComponent(() => import('./PlaceBox.vue'))
const LineBox = defineAsyncComponent(() => import('./LineBox.vue'))

/** What one field is filled in with, by its schema, with its name, its help and what is wrong with it. */
const props = defineProps<{ field: FieldLike; of: Definition; wrong?: string; within?: boolean }>()
const emit = defineEmits<{ wrong: [text: string]; add: [] }>()
const value = defineModel<unknown>()
const schema = computed(() => schemaOf(props.field))
const at = computed(() => props.field.name)
const text = computed({
  get: () => (value.value ?? '') as string,
  set: (typed) => (value.value = typed === '' ? undefined : typed),
})

/** Boxes that consist of several, which their name stands over as over a group. */
const grouped = computed(
  () =>
    !!schema.value.enum ||
    !!byPeriod.value ||
    schema.value.type === 'boolean' ||
    manyOf.value ||
    texts.value ||
    isPoint(schema.value) ||
    isLine(schema.value) ||
    hasParts(props.field) ||
    !!props.field.reference,
)
/** The kind of a period that is chosen; days have a box of their own. */
const byPeriod = computed(() => (props.field.period === 'day' ? undefined : props.field.period))
/** What is required only once the record is complete. */
const later = computed(() => !!props.of.coverage?.complete && !stays(props.of, props.field.name))
const manyOf = computed(() => schema.value.type === 'array' && !!schema.value.items?.enum)
const texts = computed(
  () => schema.value.type === 'array' && schema.value.items?.type === 'string' && !schema.value.items.enum,
)
const choices = computed(() => {
  if (schema.value.type === 'boolean') {
    return [
      { value: true, label: t('yes') },
      { value: false, label: t('no') },
    ]
  }
  return (schema.value.enum ?? schema.value.items?.enum ?? []).map((one) => ({
    value: one,
    label: choiceTitle(props.of, props.field.name, one),
  }))
})
const about = computed(
  () =>
    [schema.value.description ? `${at.value}-hint` : '', props.wrong ? `${at.value}-wrong` : '']
      .filter(Boolean)
      .join(' ') || undefined,
)
const keyboard = computed(
  () => ({ email: 'email', uri: 'url' })[schema.value.format ?? ''] as 'email' | 'url' | undefined,
)
</script>

<template>
  <component
    :is="grouped ? 'div' : 'label'"
    class="named"
    :for="grouped ? undefined : at"
    :role="grouped ? 'group' : undefined"
    :aria-labelledby="grouped ? `${at}-name` : undefined"
    :aria-describedby="grouped ? about : undefined"
  >
    <span v-if="!within" :id="`${at}-name`" class="name"
      >{{ field.title }}<span v-if="schema.unit" class="faint"> ({{ schema.unit }})</span
      ><span v-if="field.required" class="must"> · {{ later ? t('before it is complete') : t('required') }}</span></span
    >
    <span v-if="schema.description" :id="`${at}-hint`" class="hint">{{ schema.description }}</span>
    <ReferenceBox
      v-if="field.reference"
      v-model="value"
      :field="field"
      :required="field.required === true"
      @add="emit('add')"
    />
    <ChoiceBox
      v-else-if="byPeriod"
      v-model="value"
      :name="at"
      :title="field.title"
      :choices="periodChoices(byPeriod, value)"
      :required="field.required === true"
    />
    <ChoiceBox
      v-else-if="schema.enum || schema.type === 'boolean'"
      v-model="value"
      :name="at"
      :title="field.title"
      :choices="choices"
      :required="field.required === true"
    />
    <ChoiceBox v-else-if="manyOf" v-model="value" :name="at" :title="field.title" :choices="choices" many />
    <NumberInput
      v-else-if="isNumber(schema)"
      :id="at"
      v-model="value"
      :integer="schema.type === 'integer'"
      :invalid="!!wrong"
      :aria-describedby="about"
      :aria-label="within ? field.title : undefined"
      @wrong="emit('wrong', $event)"
    />
    <MomentInput
      v-else-if="
        field.period || (schema.type === 'string' && (schema.format === 'date' || schema.format === 'date-time'))
      "
      :id="at"
      v-model="value"
      :moment="schema.format === 'date-time'"
      :invalid="!!wrong"
      :aria-describedby="about"
      :aria-label="within ? field.title : undefined"
      @wrong="emit('wrong', $event)"
    />
    <TextArea
      v-else-if="isLong(schema)"
      :id="at"
      v-model="text"
      rows="3"
      auto-resize
      fluid
      :invalid="!!wrong"
      :aria-describedby="about"
    />
    <InputText
      v-else-if="schema.type === 'string'"
      :id="at"
      v-model="text"
      fluid
      autocomplete="off"
      :inputmode="keyboard"
      :invalid="!!wrong"
      :aria-describedby="about"
      :aria-label="within ? field.title : undefined"
    />
    <TextsBox v-else-if="texts" v-model="value" :name="at" :title="field.title" />
    <PlaceBox v-else-if="isPoint(schema)" v-model="value" :name="at" :of="of" @wrong="emit('wrong', $event)" />
    <LineBox v-else-if="isLine(schema)" v-model="value" :name="at" :of="of" />
    <NumbersInput
      v-else-if="schema.type === 'array' && schema.items && isNumber(schema.items)"
      :id="at"
      v-model="value"
      :integer="schema.items.type === 'integer'"
      @wrong="emit('wrong', $event)"
    />
    <PartsInput v-else-if="hasParts(field)" v-slot="part" v-model="value" :field="field" @wrong="emit('wrong', $event)"
      ><FieldBox
        :model-value="part.value"
        :field="part.field"
        :of="of"
        within
        @update:model-value="part.set"
        @wrong="part.wrong"
    /></PartsInput>
    <JSONInput v-else :id="at" v-model="value" @wrong="emit('wrong', $event)" />
    <span v-if="wrong" :id="`${at}-wrong`" class="wrong" role="alert">{{ wrong }}</span>
  </component>
</template>

<style scoped>
.named {
  display: grid;
  gap: 0.35rem;
}
.must {
  font-weight: 400;
  font-size: 0.85rem;
  color: var(--faint);
}
</style>
