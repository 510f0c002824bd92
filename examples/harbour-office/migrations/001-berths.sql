create table berths (harbour text, number int, vessel text);
insert into berths values
  ('Skerry Holm', 1, 'Grey Heron'), ('Wick Sound', 2, 'Oystercatcher'), ('Gannet Point', 1, 'Little Tern');
