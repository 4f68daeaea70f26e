-- New receipts go into a table a day. These stay until they are old enough; versions before would not see the others.
ALTER TABLE receipt COMMENT = 'from before there was a table a day';
