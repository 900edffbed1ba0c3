-- The style of prompts that go to the model as they are has one name: completion.
UPDATE exchanges SET style = 'completion', doc = json_set(doc, '$.style', 'completion') WHERE style = 'raw';
